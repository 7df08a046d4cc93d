"""The core runs without Qt, and rooms import only what lies below them."""

from __future__ import annotations

import ast
import importlib
import re
import subprocess
import sys
import tomllib
from functools import cache
from pathlib import Path

ROOT = Path(__file__).parents[2] / "src" / "idle_lantern"

#: Modules that may load others by name: the command line takes only what the command asked for needs.
#: The command that is asked for; steps of a recipe, which are found by their modules.
MAY_LOAD_BY_NAME = {"cli/main.py", "core/finish/registry.py"}


@cache
def _trees() -> tuple[tuple[str, ast.Module], ...]:
    """Every module of the program, parsed."""
    return tuple((p.relative_to(ROOT).as_posix(), ast.parse(p.read_text(encoding="utf-8"))) for p in ROOT.rglob("*.py"))


@cache
def _nodes() -> tuple[tuple[str, tuple[ast.AST, ...]], ...]:
    """Every call, import and class of each module."""
    kinds = (ast.Call, ast.Import, ast.ImportFrom, ast.ClassDef)
    return tuple((name, tuple(n for n in ast.walk(tree) if isinstance(n, kinds))) for name, tree in _trees())


def test_nothing_is_loaded_by_name_round_the_contracts():
    wrong = []
    for name, nodes in _nodes():
        for node in nodes:
            called = isinstance(node, ast.Call) and (
                (isinstance(node.func, ast.Name) and node.func.id in ("__import__", "exec", "eval"))
                or (isinstance(node.func, ast.Attribute) and node.func.attr == "import_module")
            )
            if called and name not in MAY_LOAD_BY_NAME:
                wrong.append(f"{name}:{node.lineno}")
    assert not wrong


#: Modules of the standard library, and of Qt, that reach other machines.
NETWORK = {
    "socket",
    "ssl",
    "http",
    "urllib",
    "ftplib",
    "smtplib",
    "asyncio",
    "xmlrpc",
    "socketserver",
    "QtNetwork",
    "requests",
}


def test_nothing_that_talks_to_a_network_is_imported():
    """The promise that nothing is sent anywhere."""
    for name, nodes in _nodes():
        for node in nodes:
            names = [a.name for a in node.names] if isinstance(node, (ast.Import, ast.ImportFrom)) else []
            module = node.module or "" if isinstance(node, ast.ImportFrom) else ""
            parts = {part for each in (*names, module) for part in each.split(".")}
            assert not parts & NETWORK, f"{name}:{node.lineno}"


def test_every_promise_names_tests_that_there_are():
    promises = (ROOT.parents[1] / "docs" / "promises.md").read_text(encoding="utf-8")
    named = re.findall(r"`(tests/[\w/]+\.py)::(\w+)`", promises)
    assert len(named) > 20
    for file, test in named:
        assert f"def {test}(" in (ROOT.parents[1] / file).read_text(encoding="utf-8"), f"{file}::{test}"


def test_rooms_list_their_public_names_and_have_them():
    """Each room's ``__init__`` says ``module``: ``name``, ...; what it lists is there."""
    rooms = [p for p in (ROOT / "core").rglob("__init__.py") if "Public here" in p.read_text(encoding="utf-8")]
    assert len(rooms) >= 7
    for room in rooms:
        package = ".".join(("idle_lantern", *room.parent.relative_to(ROOT).parts))
        listed = re.findall(r"^- ``(\w+)``: (.+)$", room.read_text(encoding="utf-8"), re.MULTILINE)
        assert listed, package
        for module, names in listed:
            loaded = importlib.import_module(f"{package}.{module}")
            for name in re.findall(r"``(\w+)``", names):
                assert hasattr(loaded, name), f"{package}.{module} has no {name}"


def test_all_of_the_core_imports_where_qt_cannot():
    """A fresh interpreter in which importing Qt is an error."""
    modules = [
        ".".join(("idle_lantern", *p.relative_to(ROOT).with_suffix("").parts)) for p in (ROOT / "core").rglob("*.py")
    ]
    code = (
        "import sys, importlib\nsys.modules['PyQt6'] = None\n"
        f"for m in {modules!r}: importlib.import_module(m.removesuffix('.__init__'))\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_the_command_line_needs_no_qt_to_join():
    """Nor SciPy, which takes longer to load than frames to be read, as long as nothing is stretched or bent."""
    code = (
        "import sys; sys.modules['PyQt6'] = None\nfrom idle_lantern.cli.main import main\nimport idle_lantern.core.join.service\n"
        "assert not [name for name in sys.modules if name.startswith('scipy.')]\nmain(['join', '--help'])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "--projection" in done.stdout


def test_the_window_loads_nothing_that_it_does_not_need_to_open():
    """Each of these takes as long to load as a tenth of the start or more."""
    heavy = ("fpdf", "scipy.optimize", "scipy.spatial", "ephem.stars", "tzfpy", "idle_lantern.simulator.diorama")
    script = (
        "import sys, idle_lantern.app.window, idle_lantern.core.plan.planner as p, idle_lantern.core.plan.brief as b\n"
        f"p.make_plan(b.Brief()); print([name for name in {heavy!r} if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60, check=True)
    assert done.stdout.strip() == "[]"


def _listed_rooms() -> set[str]:
    """The folders and modules that docs/architecture.md lists under ``src/idle_lantern/``, by their places there."""
    text = (ROOT.parents[1] / "docs" / "architecture.md").read_text(encoding="utf-8")
    drawn = text.split("src/idle_lantern/\n")[1].split("\ntests/")[0]
    found, above = set(), ["", "", "", ""]
    for line in drawn.splitlines():
        match = re.match(r"(?P<indent> {2,6})(?P<names>(?:[a-z_]+(?:/|\.py)(?:, )?)+)\s", line)
        if match is None:
            continue
        depth = len(match["indent"]) // 2
        for name in match["names"].split(", "):
            place = "".join(above[1:depth]) + name
            found.add(place)
            if name.endswith("/"):
                above[depth] = name
    return found


def test_the_rooms_that_are_written_down_are_those_of_the_code():
    listed = _listed_rooms()
    assert len(listed) > 40
    assert not [place for place in listed if not (ROOT / place).exists()], "written down, and not there"
    rooms = [p.parent.relative_to(ROOT) for p in (ROOT / "core").rglob("__init__.py")] + [
        p.parent.relative_to(ROOT) for p in ROOT.glob("*/__init__.py")
    ]
    private = {f"core/{name}/" for name in ("frames/decoders",)}  # a room's own folder, told where the room is
    unlisted = [f"{r.as_posix()}/" for r in rooms if f"{r.as_posix()}/" not in listed | private]
    assert not unlisted, "there, and not written down"


def test_the_order_that_is_written_down_is_that_of_the_contracts():
    root = ROOT.parents[1]
    contracts = tomllib.loads((root / "pyproject.toml").read_text(encoding="utf-8"))["tool"]["importlinter"][
        "contracts"
    ]
    kept = {c["containers"][0]: " -> ".join(c["layers"]) for c in contracts if c["type"] == "layers"}
    text = (root / "docs" / "architecture.md").read_text(encoding="utf-8")
    told = dict(re.findall(r"^(all|core|registration|compositing|join): +(.+(?:\n {14}.+)*)", text, re.M))
    assert len(told) == 5
    for name, order in told.items():
        container = {"all": "idle_lantern", "core": "idle_lantern.core"}.get(name, f"idle_lantern.core.{name}")
        assert " ".join(order.split()) == kept[container], name


def _names_of(tree: ast.AST) -> set[str]:
    """What a module or class defines, stores, takes or calls by name."""
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
            found.add(node.name)
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            found.add(node.id)
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            found.add(node.attr)
        elif isinstance(node, (ast.arg, ast.keyword)) and node.arg:
            found.add(node.arg)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            found.add(node.value)
    return found


def test_names_in_the_architecture_stand_in_the_code():
    """Modules by their file names, and ``holder.name`` where a room, module or class of that name has it."""
    members: dict[str, set[str]] = {}
    for (name, tree), (_name, nodes) in zip(_trees(), _nodes()):
        *rooms, stem = name.removesuffix("/__init__.py").removesuffix(".py").split("/")
        members.setdefault(stem, set()).update(_names_of(tree))
        if rooms:
            members.setdefault(rooms[-1], set()).add(stem)
        for made in nodes:
            if isinstance(made, ast.ClassDef):
                members.setdefault(made.name, set()).update(_names_of(made))
    every = set().union(*members.values()) | set(members)
    text = (ROOT.parents[1] / "docs" / "architecture.md").read_text(encoding="utf-8")
    wrong = []
    for told in set(re.findall(r"`([A-Za-z_][\w./]*)[`(]", text)) - {"to_from", "assets/", "pyproject.toml"}:
        if "/" in told or told.endswith(".py"):
            root = ROOT.parents[1]
            known = (root / told).exists() or any(f"/{told}" in f"/{name}" for name, _tree in _trees())
        elif "." in told:
            parts = told.split(".")
            known = all(b in members.get(a, ()) for a, b in zip(parts, parts[1:]))
        else:
            known = told in every
        if not known:
            wrong.append(told)
    assert not wrong


def test_public_functions_of_arrays_tell_their_shapes():
    """In words such as (N, 3), (h, w) or (...,)."""
    shape = re.compile(r"\((\.\.\.|[A-Za-z0-9]+( [+*-] \w+)*)(,| x)|shape")
    wrong = []
    for name, tree in _trees():
        if not name.startswith("core/"):
            continue
        bodies = [(tree.body, "")] + [(c.body, c.name) for c in tree.body if isinstance(c, ast.ClassDef)]
        for body, owner in bodies:
            for made in body:
                if not isinstance(made, ast.FunctionDef) or made.name.startswith("_") or owner.startswith("_"):
                    continue
                hints = [a.annotation for a in (*made.args.args, *made.args.kwonlyargs)] + [made.returns]
                named = {n.id for h in hints if h is not None for n in ast.walk(h) if isinstance(n, ast.Name)}
                if "Array" in named and not shape.search(ast.get_docstring(made) or ""):
                    wrong.append(f"{name}: {owner}.{made.name}".replace(" .", " "))
    assert not wrong
