"""What execve(2) sees of a file that nobody may execute now: it is not looked at unless it may come to that."""

import errno

from fiat.core.model.host import Node
from fiat.core.model.kind import Kind
from fiat.core.model.posture import Object
from fiat.core.model.program import UNKNOWN


def with_program(found: Object, node: Node) -> Object:
    """``found``, which ``node`` holds, with what execve(2) sees of a regular file, though nobody may execute it now."""
    if found.program is not None or found.posture.kind is not Kind.FILE:
        return found
    try:
        return found._replace(program=node.program())
    except OSError as error:
        unknown = ("first bytes", error.errno or errno.EIO)
        return found._replace(program=UNKNOWN, unknown=(*found.unknown, unknown))
