"""The shape of the code: who imports whom, and that the documents say what is."""

import ast
import re
import unittest
from collections import defaultdict
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
PACKAGE = ROOT / "windfell"
GROUND = {"geometry", "pixels", "recipe", "areas", "errors", "job", "later", "cache"}
SUBJECTS = {"frames", "develop", "readiness", "align", "shape", "join", "combine", "subjects", "finish", "output",
            "demo"}
ALLOWED = {
    **dict.fromkeys(("recipe", "pixels", "areas", "errors", "job", "later", "cache"), GROUND),
    "geometry": {"geometry", "later"},
    **{part: GROUND | {part} for part in SUBJECTS},
    "join": GROUND | {"join", "shape"},
    "subjects": GROUND | {"subjects", "combine"},
    "finish": GROUND | {"finish", "combine", "develop"},
    "engine": GROUND | SUBJECTS - {"demo"} | {"engine"},
    "cli": GROUND | SUBJECTS | {"engine", "cli"},
    "app": GROUND | SUBJECTS | {"engine", "cli", "app"},
}


def modules() -> dict[str, Path]:
    found = {}
    for path in PACKAGE.rglob("*.py"):
        name = ".".join(path.relative_to(ROOT).with_suffix("").parts)
        found[name.removesuffix(".__init__")] = path
    return found


def imports(path: Path) -> set[str]:
    """Full names of the modules a file imports."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
            found |= {f"{node.module}.{a.name}" for a in node.names}
    return found


def part_of(module: str) -> str:
    return module.split(".")[1] if module.count(".") else ""


class Benches(unittest.TestCase):
    def test_every_bench_has_a_tiny_mode_and_a_limit(self):
        for path in sorted((ROOT / "bench").glob("*.py")):
            if path.stem in ("common", "window"):
                continue
            with self.subTest(path.stem):
                text = path.read_text()
                self.assertRegex(text, r"asked\(|limited\(")
                self.assertRegex(text, r"asked\(|--tiny")

    def test_the_demo_sets_names_are_those_that_the_command_line_knows(self):
        from windfell.demo.names import NAMES
        from windfell.demo.sets import SETS

        self.assertEqual(tuple(SETS), NAMES)


class Structure(unittest.TestCase):
    def test_every_part_imports_only_what_it_may(self):
        for module, path in modules().items():
            part = part_of(module)
            if part in ("", "__main__"):
                continue
            for name in imports(path):
                if name.startswith("windfell.") and not (module == "windfell.cli.main" and "app" in name):
                    self.assertIn(part_of(name), ALLOWED[part] | {"__version__"}, f"{module} imports {name}")

    def test_no_interface_code_below_app(self):
        for module, path in modules().items():
            if part_of(module) != "app":
                self.assertFalse([n for n in imports(path) if n.startswith("PySide6")], module)

    def test_no_circles(self):
        known = modules()
        graph = defaultdict(set)
        for module, path in known.items():
            graph[module] = {n for n in imports(path) if n in known and n != module}
        done, open_ = set(), []

        def visit(module: str) -> None:
            self.assertNotIn(module, open_, " -> ".join([*open_, module]))
            if module in done:
                return
            open_.append(module)
            for following in sorted(graph[module]):
                visit(following)
            open_.pop()
            done.add(module)

        for module in sorted(known):
            if module != "windfell.cli.main":
                visit(module)

    def test_the_document_lists_the_folders_that_are(self):
        text = (ROOT / "docs" / "architecture.md").read_text()
        table = re.findall(r"^\| `(\w+)` \|", text, re.MULTILINE)
        folders = sorted(p.parent.name for p in PACKAGE.glob("*/__init__.py"))
        self.assertEqual(sorted(table), folders)

    def test_no_ready_made_stitcher(self):
        for path in modules().values():
            self.assertNotRegex(path.read_text(), r"Stitcher|cv2\.detail", str(path))

    def test_pinned_versions_agree_with_the_lock(self):
        pinned = re.findall(r'^    "([\w-]+==[\w.]+)",$', (ROOT / "pyproject.toml").read_text(), re.MULTILINE)
        lock = (ROOT / "requirements.lock").read_text().splitlines()
        self.assertGreater(len(pinned), 6)
        self.assertLessEqual(set(pinned), set(lock))

    def test_screenshots_are_linked_from_the_readme(self):
        readme = (ROOT / "README.md").read_text()
        shots = list((ROOT / "docs" / "screenshots").glob("*.png"))
        self.assertLess(len(shots), 20)
        for shot in shots:
            self.assertIn(f"docs/screenshots/{shot.name}", readme)

    def test_the_shipped_demo_stays_small(self):
        size = sum(p.stat().st_size for p in (PACKAGE / "demo" / "frames").rglob("*") if p.is_file())
        self.assertLess(size, 40 * 2**20)
