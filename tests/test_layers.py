"""Each room imports only from rooms above it; nothing goes round in a circle; the core stays pure."""

import ast
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import fiat

SOURCE = Path(fiat.__file__).parent

ROOMS = """
    core.text core.errors core.model core.words core.rules core.tree core.ask core.change core.suggest
    core.state core.audit core.expect engine host demo app render cli
""".split()
"""From the top down: a room imports from itself and from those before it."""

SEES_ONLY = {"cli": {"cli", "app", "render", "core.errors", "core.text", "core.model", "core.words"}}
"""Rooms that import from some of those above alone: of the core the values, their words and errors, no rule."""

IMPURE = {"argparse", "sys", "time", "datetime", "subprocess", "socket", "shutil", "tempfile", "logging"}
"""What the core must not import: the terminal, clocks, other processes."""

FREE = {"fiat", "fiat.__main__"}
"""The public interface and ``python -m fiat`` import what they like."""


@cache
def modules() -> dict[str, ast.Module]:
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        name = ".".join(parts[:-1] if parts[-1] == "__init__" else parts)
        found[name] = ast.parse(path.read_text())
    return found


@cache
def nodes(tree: ast.Module) -> list[ast.AST]:
    return list(ast.walk(tree))


def imports(tree: ast.Module, known: dict[str, ast.Module]) -> Iterator[str]:
    """Everything that is imported, wherever that stands: in functions and under conditions too."""
    for node in nodes(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, "no relative imports"
            assert node.module is not None
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                yield inner if inner in known else node.module


def room_of(module: str) -> str:
    parts = module.split(".")[1:]
    return ".".join(parts[:2]) if parts[0] == "core" else parts[0]


def test_rooms_import_only_from_those_above() -> None:
    known = modules()
    assert len(known) > 100
    for module, tree in known.items():
        if module in FREE or module == "fiat.core":
            continue
        here = room_of(module)
        for other in imports(tree, known):
            if not other.startswith("fiat.") or other == "fiat":
                continue
            there = room_of(other)
            assert ROOMS.index(there) <= ROOMS.index(here), f"{module} imports {other}, which stands below it"
            assert there in SEES_ONLY.get(here, {there}), f"{module} imports {other}"


def test_nothing_goes_round_in_a_circle() -> None:
    known = modules()
    above = {module: {one for one in imports(tree, known) if one in known} - {module} for module, tree in known.items()}
    done: set[str] = set()
    path: list[str] = []

    def visit(module: str) -> None:
        assert module not in path, " imports ".join([*path[path.index(module) :], module])
        if module not in done:
            path.append(module)
            for other in sorted(above[module]):
                visit(other)
            path.pop()
            done.add(module)

    for module in known:
        visit(module)


def test_the_core_is_pure() -> None:
    known = modules()
    for module, tree in known.items():
        if module.startswith("fiat.core"):
            assert not IMPURE & set(imports(tree, known)), module
            names = {node.id for node in nodes(tree) if isinstance(node, ast.Name)}
            assert "print" not in names, module
            attributes = {node.attr for node in nodes(tree) if isinstance(node, ast.Attribute)}
            assert not attributes & {"environ", "getenv"}, module


def doors(tree: ast.Module) -> set[str]:
    """What ``__all__`` of a package lists; loading it loads none of them."""
    for node in tree.body:
        if isinstance(node, ast.Assign) and ast.unparse(node.targets[0]) == "__all__":
            return {*ast.literal_eval(node.value)}
    return set()


def test_other_rooms_come_in_by_the_doors() -> None:
    """Each room lists the modules that others may import; each of these is imported by some other room."""
    known = modules()
    used: dict[str, set[str]] = {}
    for module, tree in known.items():
        here = "" if module in FREE else room_of(module) if module != "fiat.core" else "core"
        for other in imports(tree, known):
            if not other.startswith("fiat.") or (there := room_of(other)) == here:
                continue
            package = f"fiat.{there}"
            for name in other.removeprefix(package).split(".")[1:]:
                assert name in doors(known[package]), f"{module} imports {other}, which is no door of {package}"
                used.setdefault(package, set()).add(name)
                package = f"{package}.{name}"
    for module, tree in known.items():
        listed = doors(tree) if f"{module}." in " ".join(known) and module != "fiat" else set()
        assert listed == used.get(module, set()), f"doors of {module} that nobody uses"
        assert ast.get_docstring(tree) or not listed, f"{module} says nothing of itself"


def test_no_test_imports_another() -> None:
    for path in Path(__file__).parent.glob("test_*.py"):
        for other in imports(ast.parse(path.read_text()), {}):
            assert not other.startswith("test_"), f"{path.name} imports {other}"


def _callers(known: dict[str, ast.Module], names: set[str]) -> set[str]:
    """The modules that call something with one of these names, as a function or as a method."""
    found = set()
    for module, tree in known.items():
        for node in nodes(tree):
            called = node.func if isinstance(node, ast.Call) else None
            name = (
                called.id if isinstance(called, ast.Name) else called.attr if isinstance(called, ast.Attribute) else ""
            )
            if name in names:
                found.add(module.removeprefix("fiat."))
    return found


def test_every_change_goes_through_one_door() -> None:
    """From an object with an identity through its handle to the kernel: whoever calls is listed here."""
    known = modules()
    posture = {"chmod", "chown", "lchown", "fchmod", "fchown", "setxattr", "removexattr", "set_flags"}
    # the sample host's tree, and files of Fiat's own, are new when they get their mode
    own = {"demo.build", "host.wholefile", "host.history.sqlite", "host.history.locks"}
    assert _callers(known, posture) - own == {"host.live.node"}
    steps = {f"change_{what}" for what in ("owner", "mode", "list", "default", "capabilities", "flags")}
    assert _callers(known, steps) == {"core.change.rewriting"}
    # the compiled changer takes the same steps, on what it is handed by way of attempts
    assert _callers(known, {"at_once", "in_turn"}) == {"core.change.together", "host.live.compiledchanger"}
    assert _callers(known, {"try_all"}) == {"core.change.apply", "core.change.undo"}
    assert _callers(known, {"take"}) & {"core.change.apply", "core.change.undo"} == set()
    assert _callers(known, {"rewrite"}) == {"core.change.apply", "core.change.undo"}
    assert _callers(known, {"settle"}) == {"engine.changing"}
    using = {module.removeprefix("fiat."): {*imports(tree, known)} for module, tree in known.items()}
    assert {module for module, some in using.items() if "fiat.engine.changing" in some} == {"app.change", "app.undo"}
    assert {module for module, some in using.items() if "fiat.core.change.apply" in some} == {"engine.changing"}
    # what they are given are targets: what was surveyed, or looked at again and found to be the same object
    assert _callers(known, {"Target"}) == {
        "core.change.target",
        "app.change",  # the paths that are given, each with its tree
        "app.restore",  # trees that were compared
        "core.suggest.treeedits",  # the trees of a let or a bar
        "core.audit.mending",  # counted alone, never carried out
    }
    assert _callers(known, {"target_of", "targets_in"}) == {
        "core.suggest.drafting",
        "core.expect.mending",
        "app.liketree",
        "app.undoeffects",
    }
