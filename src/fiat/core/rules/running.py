"""The checks for running a file: a program with its loader, or a script with its interpreter.

execve(2); the kernel's ``do_open_execat``, ``exec_binprm``, ``load_script`` and
``load_elf_binary``.
"""

import errno
from collections.abc import Iterator

from fiat.core.model.posture import Format, Kind, Object
from fiat.core.model.principals import places
from fiat.core.model.right import EXECUTE, READ
from fiat.core.model.route import MAX_INTERPRETERS, Route
from fiat.core.rules.checks import Check, Context, below, failure_check, flat, has_option, permission, stage_checks
from fiat.core.rules.privilege import refuses_privilege
from fiat.core.rules.programs import may_not_hold


def execute(context: Context, route: Route, object_: Object) -> Iterator[Check]:
    """Run it: a program, or a script together with its interpreter."""
    return _execute(context, route, object_, depth=0)


def _execute(context: Context, route: Route, object_: Object, depth: int) -> Iterator[Check]:
    """``depth`` counts the scripts whose interpreter this is."""
    yield from _open_to_execute(context, object_)
    program = object_.program
    if depth > MAX_INTERPRETERS:
        yield flat(object_, EXECUTE.name, errno.ELOOP, "too-many-interpreters")
    elif program is not None and program.errno:
        yield flat(object_, EXECUTE.name, program.errno, "not-executable")
    elif program is not None and program.format is Format.SCRIPT and route.interpreter is not None:
        yield from _script(context, route, object_, route.interpreter, depth + 1)
    elif program is not None and program.format is Format.HANDLED:
        if route.interpreter is not None:
            yield from _run_with(context, object_, route.interpreter, depth + 1)
    else:
        if route.interpreter is not None:
            yield from _loader(context, object_, route.interpreter)
        yield from _powers(context, object_)


def _open_to_execute(context: Context, object_: Object) -> Iterator[Check]:
    """What ``do_open_execat`` asks of anything that is to be run."""
    if object_.posture.kind is not Kind.FILE:
        yield flat(object_, EXECUTE.name, errno.EACCES, "not-a-program")
        return
    if has_option(object_.mount, "noexec"):
        yield flat(object_, EXECUTE.name, errno.EACCES, "noexec")
    yield from permission(context, object_, EXECUTE)
    yield from below(object_, EXECUTE.name, READ.permission)  # a layer's file is opened to be read


def _script(context: Context, route: Route, script: Object, interpreter: Route, depth: int) -> Iterator[Check]:
    """A script runs when its interpreter can be run, and can then read the script.

    The interpreter reads it as a program that the principal has run: it walks
    to the script by itself, without the capabilities that execve(2) takes
    away (capabilities(7), "Transformation of capabilities during execve()").
    """
    yield from _run_with(context, script, interpreter, depth)
    if interpreter.end is None:
        return
    run = context.after_exec()
    if run is not context:
        for check in stage_checks(run, route):
            yield check._replace(runs_for=script.path)
    for check in permission(run, script, READ):
        yield check._replace(runs_for=script.path)


def _run_with(context: Context, file: Object, interpreter: Route, depth: int) -> Iterator[Check]:
    """The interpreter of a script or a handler is walked to and run; what a handler's then does is its own affair."""
    for check in stage_checks(context, interpreter):
        yield check._replace(runs_for=file.path)
    if interpreter.end is None:
        yield failure_check(interpreter, EXECUTE.name)._replace(rule="interpreter-missing", runs_for=file.path)
        return
    for check in _execute(context, interpreter, interpreter.end, depth):
        yield check._replace(runs_for=check.runs_for or file.path)


def _powers(context: Context, program: Object) -> Iterator[Check]:
    """A program that is to start with capabilities is refused to a process that may not have them."""
    held, universe = program.posture.capabilities, context.universe
    if held is None or not universe.limited or refuses_privilege(program.program, program.mount):
        return
    refused = 0
    for place in places(universe.limited):
        limits = universe.principals[place].limits
        if limits is not None and may_not_hold(held, limits):
            refused |= 1 << place
    if refused:
        yield flat(program, EXECUTE.name, errno.EPERM, "beyond-bounds", universe.everyone & ~refused)


def _loader(context: Context, program: Object, loader: Route) -> Iterator[Check]:
    """A program's loader is opened to be executed, by whoever runs the program; it is not itself run with a loader."""
    for check in stage_checks(context, loader):
        yield check._replace(runs_for=program.path)
    if loader.end is None:
        yield failure_check(loader, EXECUTE.name)._replace(rule="loader-missing", runs_for=program.path)
        return
    for check in _open_to_execute(context, loader.end):
        yield check._replace(runs_for=program.path)
    found = loader.end.program
    if found is not None and found.loader_errno:
        yield flat(loader.end, EXECUTE.name, found.loader_errno, "not-a-loader")._replace(runs_for=program.path)
