"""The house itself: its map against its imports, its queries, its words about itself."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

from vornet.store.database import clone_dir

HOUSE = clone_dir()
SOURCE = HOUSE / "src" / "vornet"
TOP = ("entry", "cli", "web", "api", "sim", "flows", "words", "io", "store", "core")
ROOMS = ("house", "plan", "judge", "register", "work", "lab", "weeks", "pages", "calc")


def modules():
    return [p for p in sorted(SOURCE.rglob("*.py")) if "migrations" not in p.parts]


def imported(path: Path):
    """Dotted names of ours that a module imports, anywhere in it."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("vornet"):
            for alias in node.names:
                yield f"{node.module}.{alias.name}"
        elif isinstance(node, ast.Import):
            yield from (a.name for a in node.names if a.name.startswith("vornet"))


def arrows(within: Path, names, prefix: str):
    out = {name: set() for name in names}
    for path in modules():
        try:
            own = path.relative_to(within).parts[0].removesuffix(".py")
        except ValueError:
            continue
        for name in imported(path):
            if own in out and name.startswith(prefix):
                other = name.removeprefix(prefix).split(".")[0]
                if other in out and other != own:
                    out[own].add(other)
    return out


def drawn(title: str):
    """What the page draws: module → what its last column names."""
    text = (HOUSE / "docs" / "architecture.md").read_text().split(title, 1)[1]
    out = {}
    for line in text.splitlines():
        cells = [c.strip() for c in line.strip().strip("|").split("|")]
        if line.startswith("| `"):
            out[cells[0].strip("`")] = set(re.findall(r"`(\w+)`", cells[-1])) if len(cells) == 3 else set()
        elif out and not line.startswith("|"):
            break
    return out


def test_the_map_shows_the_arrows_there_are():
    assert drawn("holds the layers.") == arrows(SOURCE, TOP, "vornet.")


def test_the_rooms_use_each_other_as_the_map_says():
    found = arrows(SOURCE / "flows", ROOMS, "vornet.flows.")
    assert drawn("## The rooms of") == found
    order = {room: i for i, room in enumerate(ROOMS)}
    for room, uses in found.items():
        assert all(order[u] < order[room] for u in uses), room


# ---- queries ---------------------------------------------------------------------------------------------------
def queries():
    for path in sorted((SOURCE / "store" / "queries").glob("*.sql")):
        for head in re.findall(r"^-- :(.*)$", path.read_text(), re.M):
            name, _, why = head.partition(" ")
            yield f"{path.stem}.{name}", why.strip()


def test_every_named_query_is_used_says_why_and_is_there():
    known = dict(queries())
    assert [name for name, why in known.items() if not why] == []
    text = "\n".join(p.read_text() for p in [*modules(), *(HOUSE / "bench").glob("*.py"), *(HOUSE / "tests").rglob("*.py")])
    asked = set(re.findall(r'query\(\s*"([\w.]+)"', text)) | {f"register.{n}" for n in re.findall(r'rows\("(\w+)"\)', text)}
    asked |= set(re.findall(r'query\([^()]*?"([a-z]+\.\w+)" if', text)) | set(re.findall(r'else "([a-z]+\.\w+)"', text))
    asked |= set(re.findall(r'rows\("([a-z]+\.\w+)"\)', text)) | set(re.findall(r'= "([a-z]+\.\w+)" if', text))
    asked |= {f"register.{n}" for n in ("drains", "top_ups", "level_checks", "events")}  # asked for in a loop
    asked = {name for name in asked if not name.endswith((".html", ".sql", ".xlsx", ".json", ".csv", ".zip"))}
    assert sorted(asked - set(known)) == []
    assert sorted(set(known) - asked) == []


def test_pages_and_api_hold_no_sql():
    for path in [*(SOURCE / "web").glob("*.py"), *(SOURCE / "api").glob("*.py")]:
        assert "query(" not in path.read_text(), path.name
        assert ".execute(" not in path.read_text(), path.name


# ---- what writers do not do ------------------------------------------------------------------------------------
@pytest.mark.parametrize("room", ["register", "work", "lab"])
def test_nothing_evaluates_inside_a_writer(room):
    for path in (SOURCE / "flows" / room).glob("*.py"):
        assert "evaluate" not in {name.split(".")[-1] for name in imported(path)}, path.name


# ---- what is loaded --------------------------------------------------------------------------------------------
def loaded_by(*arguments: str, given: str = "") -> set[str]:
    code = "import sys; from vornet import cli; sys.argv = ['vornet', *sys.argv[1:]]\ntry: cli.main()\nexcept SystemExit: pass\n"
    code += "print(' '.join(sorted({m.split('.')[0] for m in sys.modules})))"
    ran = subprocess.run([sys.executable, "-c", code, *arguments], input=given, capture_output=True, text=True, check=True)
    return set(ran.stdout.splitlines()[-1].split())


def test_a_calculator_loads_what_it_needs():
    flush = '{"system_volume_l": 40, "drained_volume_l": 30, "target_share": 0.05}'
    assert not loaded_by("calc", "flush", given=flush) & {
        "numpy",
        "scipy",
        "pint",
        "psycopg",
        "fastapi",
        "jinja2",
        "procrastinate",
        "weasyprint",
    }
    viscosity = '{"kv40_cst": 73.30, "kv100_cst": 8.86}'
    assert not loaded_by("calc", "viscosity-index", given=viscosity) & {"scipy", "pint", "psycopg", "fastapi"}


def test_the_commands_help_loads_next_to_nothing():
    assert not loaded_by("--help") & {"numpy", "pydantic", "psycopg", "fastapi", "jinja2", "scipy"}


# ---- words about itself ----------------------------------------------------------------------------------------
def test_pages_name_files_that_are_there():
    for page in [HOUSE / "README.md", HOUSE / "CONTRIBUTING.md", *(HOUSE / "docs").glob("*.md")]:
        for named in re.findall(r"`((?:core|flows|io|store|web|api|sim)/[\w/]+\.(?:py|js|css|sql))`", page.read_text()):
            assert (SOURCE / named).exists(), (page.name, named)
        for named in re.findall(r"\]\((docs/[\w/.-]+)\)", page.read_text()):
            assert (HOUSE / named).exists(), (page.name, named)


def test_every_step_of_the_work_has_its_test_or_says_why_not():
    rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in (clone_dir() / "docs" / "steps.md").read_text().splitlines()]
    rows = [r for r in rows if len(r) == 3 and r[0] not in ("step", "---") and not r[0].startswith("**")]
    there = set(re.findall(r"def (test_\w+)", "\n".join(p.read_text() for p in (HOUSE / "tests").rglob("*.py"))))
    assert len(rows) > 50
    for step, screen, test in rows:
        named = re.findall(r"`(test_\w+)`", test)
        assert screen, step
        assert named or test.startswith("none: "), step
        assert set(named) <= there, (step, set(named) - there)


def test_the_security_table_names_tests_that_are_there_and_reasons_where_there_is_none():
    """docs/asvs.md: each *met* by a test of ours, each *not met* and each that does not arise with its reason."""
    tests = set(re.findall(r"^def (test_\w+)", "\n".join(p.read_text() for p in (clone_dir() / "tests").rglob("test_*.py")), re.M))
    rows = [[cell.strip() for cell in line.split("|")[1:-1]] for line in (clone_dir() / "docs" / "asvs.md").read_text().splitlines()
            if re.match(r"\| \d", line)]  # fmt: skip
    numbers = [number.strip() for row in rows for number in row[0].split(",")]
    assert len(numbers) == len(set(numbers)) > 150
    for number, _, stands, by in rows:
        named = set(re.findall(r"\btest_\w+", by))
        assert stands in ("met", "read", "not met", "–"), number
        assert named <= tests, (number, named - tests)
        assert named if stands == "met" else by, number
    assert {row[0].split(".")[0] for row in rows} == {str(n) for n in range(1, 18)}
