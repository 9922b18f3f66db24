"""The words of a shell's file: POSIX.1-2017, Shell Command Language 2.3, Token Recognition."""

from typing import NamedTuple

_OPERATORS = ("&&", "||", ";;", "<<-", "<<", ">>", "<&", ">&", "<>", ">|", ";", "&", "|", "(", ")", "<", ">", "\n")
_CLOSES = {"(": ")", "{": "}"}


class Token(NamedTuple):
    """A word as it stands, with its quotation marks, or an operator; and in which line."""

    text: str
    line: int
    operator: bool = False


def tokens_of(text: str) -> list[Token]:
    """The words and operators of a file; ValueError where a quotation does not end."""
    found: list[Token] = []
    place, line, word, begun = 0, 1, "", 1
    texts: list[str] = []
    while place < len(text):
        sign = text[place]
        if text.startswith("\\\n", place):
            place, line = place + 2, line + 1
            continue
        if sign == "#" and not word:
            place = _end_of_line(text, place)
            continue
        operator = next((one for one in _OPERATORS if text.startswith(one, place)), "")
        if sign in " \t" or operator:
            if word:
                found.append(Token(word, begun))
                word = ""
                if len(found) > 1 and found[-2].operator and found[-2].text in ("<<", "<<-"):
                    texts.append(found[-1].text.strip("'\"\\"))
            if operator:
                found.append(Token(operator, line, operator=True))
            place += len(operator) or 1
            if operator == "\n":
                after = _after_texts(text, place, texts)
                line, place, texts = line + 1 + text.count("\n", place, after), after, []
            continue
        begun = line if not word else begun
        end = _end_of_part(text, place)
        word += text[place:end]
        line += text.count("\n", place, end)
        place = end
    if word:
        found.append(Token(word, begun))
    return found


def _after_texts(text: str, place: int, ends: list[str]) -> int:
    """Where the lines end that are a program's input (here-documents), each up to a line of its own."""
    for end in ends:
        while place < len(text):
            line = text[place : _end_of_line(text, place)]
            place += len(line) + 1
            if line.strip("\t") == end:
                break
    return min(place, len(text))


def _end_of_line(text: str, place: int) -> int:
    end = text.find("\n", place)
    return len(text) if end < 0 else end


def _end_of_part(text: str, place: int) -> int:
    """Where a quotation, an expansion or a plain sign ends that begins at ``place``."""
    sign = text[place]
    if sign == "\\":
        return place + 2
    if sign == "'":
        return _index(text, "'", place + 1) + 1
    if sign == '"':
        place += 1
        while text[place : place + 1] != '"':
            if place >= len(text):
                raise ValueError("a quotation does not end")
            place = place + 1 if text[place] not in "\\$`" else _end_of_part(text, place)
        return place + 1
    if sign == "`":
        return _index(text, "`", place + 1) + 1
    if sign == "$" and text[place + 1 : place + 2] in _CLOSES:
        return _end_of_braces(text, place + 1)
    return place + 1


def _end_of_braces(text: str, place: int) -> int:
    """Where ``(…)`` or ``{…}`` ends, others in it counted."""
    opens, closes = text[place], _CLOSES[text[place]]
    depth = 0
    while place < len(text):
        if text[place] in "\\'\"`":
            place = _end_of_part(text, place)
            continue
        depth += (text[place] == opens) - (text[place] == closes)
        place += 1
        if not depth:
            return place
    raise ValueError("an expansion does not end")


def _index(text: str, sign: str, place: int) -> int:
    found = text.find(sign, place)
    if found < 0:
        raise ValueError("a quotation does not end")
    return found
