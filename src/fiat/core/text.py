"""Text from outside, made harmless for a terminal and for messages."""


def visible(text: str) -> str:
    """``text`` with everything that is not printable written as an escape.

    Control characters, bytes that are not UTF-8 (surrogate escapes), format
    and separator characters, and the backslash itself become ``\\n``,
    ``\\x1b``, ``\\xff``, ``\\u202e`` and ``\\\\``: the result is printable
    on any terminal and no two different texts look the same.
    """
    if text.isprintable() and "\\" not in text:
        return text
    return "".join(c if c.isprintable() and c != "\\" else _escape(c) for c in text)


def _escape(char: str) -> str:
    code = ord(char)
    named = {"\\": "\\\\", "\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(char)
    if named:
        return named
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is not UTF-8, as os.fsdecode holds it
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x80:
        return f"\\x{code:02x}"
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def quoted(word: str) -> str:
    """``word`` made visible and put between quotation marks."""
    return f"'{visible(word)}'"
