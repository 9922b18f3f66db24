"""Which program is found by a name."""

from collections.abc import Iterator

from fiat.app.byname import ByName
from fiat.core.model.fields import Fields
from fiat.core.text import counted, shell_word, visible
from fiat.core.words import naming
from fiat.render.model import BLANK, Block, Plain, Prose, Span, Table, Verbatim
from fiat.render.output import errno_name
from fiat.render.why import who_fields


class ByNameView(Plain):
    """The program, where it was found, and what else has the name."""

    def __init__(self, found: ByName, about: list[tuple[str, str]]) -> None:
        self.found = found
        self.about = "".join(f" {option} {shell_word(value)}" for option, value in about)

    def records(self) -> Iterator[Fields]:
        """What is found, and each place that was looked at."""
        found = self.found
        refused = found.refused[-1].verdict.errno if found.refused else 2
        yield {
            "who": who_fields(found.who),
            "right": "run",
            "name": found.name,
            "allowed": found.program is not None,
            "errno": None if found.program is not None else errno_name(refused),
            "path": None if found.program is None else found.program.path,
            "by_shell": found.program is not None and found.program.by_shell,
            "folders": list(found.folders),
            "source": found.source,
            "places": [
                {
                    "path": place.path,
                    "there": place.why is not None,
                    "allowed": None if place.why is None else place.runs,
                    "errno": None if place.why is None else errno_name(place.why.verdict.errno),
                }
                for place in found.places
            ],
            "here": found.here,
        }

    def blocks(self) -> Iterator[Block]:
        """The answer, the folders, and what to do."""
        found, who, name = self.found, naming.principal(self.found.who), visible(self.found.name)
        folders = ":".join(map(visible, found.folders))
        if found.program is not None:
            yield Verbatim([Span("Yes.", "yes"), f" {who} gets {visible(found.program.path)} by the name {name}"])
        elif found.refused:
            yield Verbatim([Span("No.", "no"), f" what is called {name} may not be run by {who}  (EACCES)"])
        else:
            yield Verbatim([Span("No.", "no"), f" {who} finds nothing called {name}  (ENOENT, command not found)"])
        yield Prose(f"Looked for in {folders} ({visible(found.source)}).", 1, hanging="  ")
        if found.program is not None and found.program.by_shell:
            text = (
                "To the kernel it is no program: without #! in its first line the shell runs it as a script of its own."
            )
            yield Prose(text, 1, hanging="  ")
        if found.refused:
            yield BLANK
            rows = [[Span("NO", "no"), visible(one.route.asked), one.explained[0]] for one in found.refused]
            yield Table(["", "at", "why"], rows, flexible=(2,))
            for one in found.refused[-1:] if found.program is None else ():
                where = shell_word(one.route.asked)
                word = shell_word(naming.word_for(found.who))
                yield Verbatim(f"fiat why {word} execute {where}{self.about}  says what would have to change", 1)
        if found.program is None and found.here is not None:
            yield Prose(
                f"It is in the current directory, which is not looked through: ./{shell_word(found.name)} runs it.", 1
            )
        elif found.program is None and not found.refused:
            where = counted(len(found.folders), "folder")
            text = (
                f"None of the {where} holds anything of this name that they can find. What is elsewhere is run by its"
            )
            yield Prose(f"{text} path, such as ./{shell_word(found.name)} in the current directory.", 1)
