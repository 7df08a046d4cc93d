"""The core runs without Qt, and rooms import only what lies below them."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[2] / "src" / "idle_lantern"

#: What each room of the core may import of the others; docs/architecture.md tells why.
ALLOWED = {
    "base": set(),
    "geometry": {"base"},
    "plan": {"base", "geometry"},
    "frames": {"base", "geometry"},
    "pictures": {"base", "geometry", "frames"},
    "deliver": {"base", "geometry", "frames", "pictures"},
    "join": {"base", "geometry", "frames", "pictures", "deliver"},
    "gear": {"base", "geometry", "frames", "plan"},
    "outing": {"base", "plan", "frames"},
    "shoot": {"base", "plan", "outing"},
    "sim": {"base", "geometry", "plan", "frames", "deliver", "outing", "shoot"},
}


def _imports(path: Path) -> set[str]:
    names = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
    return names


def test_rooms_import_downwards_only():
    wrong = []
    for path in (ROOT / "core").rglob("*.py"):
        room = path.relative_to(ROOT / "core").parts[0]
        for name in _imports(path):
            parts = name.split(".")
            if parts[0] in ("PyQt6", "PySide6") or name.startswith(("idle_lantern.app", "idle_lantern.cli")):
                wrong.append(f"{path.name} imports {name}")
            if (
                parts[:2] == ["idle_lantern", "core"]
                and len(parts) > 2
                and parts[2] != room
                and parts[2] not in ALLOWED[room]
            ):
                wrong.append(f"{room}/{path.name} imports {name}")
    assert not wrong


def test_every_room_is_listed():
    rooms = {p.name for p in (ROOT / "core").iterdir() if (p / "__init__.py").exists()}
    assert rooms == set(ALLOWED)


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
    code = "import sys; sys.modules['PyQt6'] = None\nfrom idle_lantern.cli.main import main\nmain(['join', '--help'])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert "--projection" in done.stdout
