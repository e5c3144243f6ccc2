"""One request stops nobody: what comes in is counted, what is hostile is refused or ends alone, nothing waits on the loop."""

import ast
import asyncio
import inspect
import io
import json
import os
import re
import tracemalloc
import zipfile
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from psycopg.errors import DeadlockDetected

from conftest import TODAY, routes, small_register
from vornet.api.bodies import USUAL_BODY
from vornet.core import conversion, trend
from vornet.core.errors import InputError
from vornet.flows import calc, worker
from vornet.flows.house import fleets, people, sessions
from vornet.flows.lab import files, inbox
from vornet.flows.work import notes
from vornet.io import apart, lab_table, pictures, sheet_reader, workbook
from vornet.store.database import clone_dir
from vornet.web.app import create_app
from vornet.web.guard import OPEN_PATHS

PASSWORD = "right-and-long"
#: coroutines of web and api that may stand on the loop: they wait for the network, never for the database
ON_THE_LOOP = {
    "healthy",
    "_posted",
    "_posted_here",
    "_raw",
    "__call__",
    "dressed",
    "read",
    "_let_in",
    "_note",
    "startup",
    "bad_input",
    "shown_again",
}


# ---- nothing waits on the loop ---------------------------------------------------------------------------------
def coroutines():
    for folder in ("web", "api"):
        for path in sorted((clone_dir() / "src" / "vornet" / folder).glob("*.py")):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.AsyncFunctionDef):
                    yield path.name, node


def test_no_coroutine_of_pages_or_api_opens_the_database_or_works():
    found = {node.name for _, node in coroutines()}
    assert found <= ON_THE_LOOP, f"routes are plain functions: {sorted(found - ON_THE_LOOP)}"
    for name, node in coroutines():
        called = {ast.unparse(c.func) for c in ast.walk(node) if isinstance(c, ast.Call)}
        awaited = {ast.unparse(a.value.func) for a in ast.walk(node) if isinstance(a, ast.Await) and isinstance(a.value, ast.Call)}
        plain = {c for c in called - awaited if c.split(".")[-1] in ("fleet", "anyone", "execute", "database", "render", "bearer", "visitor")}
        assert plain <= {"visitor"}, (name, node.name, plain)  # of the request's state, found by the guard


def test_every_route_runs_in_a_thread(db):
    found = [r for r in routes(create_app(db, today=TODAY)) if r.path != "/healthy"]
    assert len(found) > 100
    for route in found:
        assert not inspect.iscoroutinefunction(route.endpoint), route.path


# ---- how much comes in -----------------------------------------------------------------------------------------
class Sent:
    """A request by hand: how many bytes of an endless body the application asks for before it answers."""

    def __init__(self, app, method, path, headers):
        self.app, self.taken, self.status = app, 0, 0
        self.scope = {
            "type": "http", "asgi": {"version": "3.0"}, "http_version": "1.1", "method": method, "path": path, "raw_path": path.encode(),
            "query_string": b"", "headers": [(b"host", b"testserver"), *headers],
            "server": ("127.0.0.1", 80), "client": ("127.0.0.1", 1), "scheme": "http",
            "root_path": "",
        }  # fmt: skip

    async def receive(self):
        self.taken += 262_144
        return {"type": "http.request", "body": b"x" * 262_144, "more_body": True}

    async def send(self, message):
        self.status = message.get("status", self.status)

    def go(self):
        with ThreadPoolExecutor(1) as apart:  # a browser's tests before this one leave a loop running in their thread
            apart.submit(asyncio.run, asyncio.wait_for(self.app(self.scope, self.receive, self.send), 120)).result()
        return self


@pytest.fixture
def admin_of_everything(db, fleet, monkeypatch):
    """A session that may do anything, so that no right hides a route."""
    people.add(db, fleet, "cap" + fleet.replace(" ", "").lower(), "Cap", PASSWORD, "admin")
    monkeypatch.setattr(people.Visitor, "may", lambda self, right: True)
    token = sessions.sign_in(db, "cap" + fleet.replace(" ", "").lower(), PASSWORD).token
    return b"vornet_session=" + token.encode()


def with_a_body(app):
    for route in routes(app):
        for method in route.methods & {"POST", "PUT", "PATCH"}:
            caps = [d.call.largest for d in route.dependant.dependencies if hasattr(d.call, "largest")]
            yield method, route, (caps or [USUAL_BODY])[0]


def test_no_route_reads_more_than_it_takes(db, admin_of_everything):
    app, tried = create_app(db, today=TODAY), 0
    for method, route, cap in with_a_body(app):
        if cap > 5_000_000:
            continue  # the same counting, too long to feed here; its head is refused below
        path = route.path.format(**{p.name: 1 for p in route.dependant.path_params})
        sent = Sent(app, method, path, [(b"cookie", admin_of_everything), (b"content-type", b"application/x-www-form-urlencoded")]).go()
        assert sent.taken <= cap + 2 * 262_144, (path, sent.taken)
        assert sent.status in (403, 404, 413, 422, 303), (path, sent.status)
        tried += sent.status == 413
    assert tried > 30


def test_a_length_that_is_told_is_refused_before_a_byte_is_read(db, admin_of_everything):
    app = create_app(db, today=TODAY)
    for path, length in (("/sign-in", 400_000_000), ("/lab", 300_000_000), ("/library/files", 300_000_000), ("/set-up", 20_000)):
        head = [
            (b"cookie", admin_of_everything),
            (b"content-type", b"multipart/form-data; boundary=x"),
            (b"content-length", str(length).encode()),
        ]
        sent = Sent(app, "POST", path, head).go()
        assert (sent.status, sent.taken) == (413, 0), path


def test_a_stranger_is_refused_before_a_byte_is_read(db):
    app = create_app(db, today=TODAY)
    for method, route, _ in with_a_body(app):
        path = route.path.format(**{p.name: 1 for p in route.dependant.path_params})
        if not path.startswith(OPEN_PATHS):
            sent = Sent(app, method, path, [(b"content-type", b"multipart/form-data; boundary=x")]).go()
            assert (sent.status in (303, 401), sent.taken) == (True, 0), path


def test_an_endless_sign_in_ends(db):
    sent = Sent(create_app(db, today=TODAY), "POST", "/sign-in", [(b"content-type", b"multipart/form-data; boundary=x")]).go()
    assert sent.taken <= 2 * 262_144


# ---- calculators, which anybody may ask ------------------------------------------------------------------------
@pytest.mark.parametrize(
    "unit", ["m**9**9**9", "m**4", "(m)", "m*", "*m", "m m", "m+s", "2*m", "lambda", "m" * 61, "__class__", "m**-4", "m\x00"]
)
def test_units_are_products_and_powers_of_known_names(unit):
    with pytest.raises(InputError, match=r"not a unit|unit name"):
        conversion.convert(1.0, unit, "m")


def test_useful_units_are_read():
    """Factors by definition (NIST SP 811, appendix B)."""
    known = [("N*m", "lbf_ft", 0.7375621), ("kg/m**3", "g/L", 1), ("mm^2/s", "cSt", 1), ("km/h", "mile/hour", 0.6213712),
             ("1/h", "1/s", 1 / 3600),
             ("m^-1", "1/km", 1000), ("newton * meter", "lbf_ft", 0.7375621), ("kWh", "MJ", 3.6), ("degC", "degF", 33.8),
             ("delta_degC", "delta_degF", 1.8)]  # fmt: skip
    for source, target, factor in known:
        assert conversion.convert(1.0, source, target) == pytest.approx(factor, rel=1e-6), (source, target)


def test_a_long_series_takes_little_memory():
    points = [(float(i), float(i % 17)) for i in range(3000)]
    trend.trend(points[:10])
    tracemalloc.start()
    trend.trend(points)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 150_000_000  # the pairs' slopes and little more


def test_numbers_too_long_to_read_are_no_crash(db):
    with TestClient(create_app(db, today=TODAY), raise_server_exceptions=False) as client:
        for body in (b'{"value": ' + b"9" * 5000 + b"}", b"[" * 50_000, b"\xff", b'{"value": NaN}'):
            assert client.post("/api/v1/calc/convert", content=body).status_code == 422


def test_thousands_of_strange_keys_are_one_sentence():
    with pytest.raises(InputError, match=r"is missing|not a field"):
        calc.calculate("convert", {str(i): i for i in range(7000)})


# ---- files made to burst ---------------------------------------------------------------------------------------
PACKAGE = "http://schemas.openxmlformats.org/package/2006"
OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
MAIN = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'


def related(kind, target):
    one = f'<Relationship Id="rId1" Type="{OFFICE}/{kind}" Target="{target}"/>'
    return f'<Relationships xmlns="{PACKAGE}/relationships">{one}</Relationships>'


def far_cell(sheet="units"):
    """A workbook of a kilobyte or two whose only cells are the first and the last there can be."""
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml"
    parts = {
        "[Content_Types].xml": f'<Types xmlns="{PACKAGE}/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{kind}.sheet.main+xml"/>'
        f'<Override PartName="/xl/worksheets/sheet1.xml" ContentType="{kind}.worksheet+xml"/></Types>',
        "_rels/.rels": related("officeDocument", "xl/workbook.xml"),
        "xl/_rels/workbook.xml.rels": related("worksheet", "worksheets/sheet1.xml"),
        "xl/workbook.xml": f'<workbook {MAIN} xmlns:r="{OFFICE}"><sheets><sheet name="{sheet}" sheetId="1" r:id="rId1"/></sheets></workbook>',
        "xl/worksheets/sheet1.xml": f'<worksheet {MAIN}><sheetData><row r="1"><c r="A1"><v>1</v></c></row>'
        '<row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData></worksheet>',
    }  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for name, text in parts.items():
            z.writestr(name, text)
    return out.getvalue()


def test_a_workbook_with_one_far_cell_ends_nobody():
    content = far_cell()
    assert len(content) < 2000
    for read in (lambda: workbook.read("x.xlsx", content), lambda: lab_table.open_table(io.BytesIO(content))):
        with pytest.raises(InputError, match="too large to read"):
            read()


@pytest.fixture
def planner_client(db, fleet):
    login = "burst" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "Burst", PASSWORD, "planner")
    with TestClient(create_app(db, today=TODAY), raise_server_exceptions=False) as client:
        client.post("/sign-in", data={"login": login, "password": PASSWORD})
        csrf = client.get("/library/files").text.split('name="csrf" value="')[1].split('"')[0]
        yield client, csrf


def test_the_page_takes_no_burst(planner_client):
    client, csrf = planner_client
    answer = client.post("/library/files", data={"csrf": csrf}, files={"file": ("units.xlsx", far_cell())})
    assert (answer.status_code, "too large to read" in answer.text) == (422, True)
    assert client.get("/").status_code == 200


def test_a_packed_file_is_counted_as_it_opens():
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("units.csv", b"0" * (sheet_reader.LARGEST_UNPACKED + 1))
    with pytest.raises(InputError, match="unpacks to more"):
        workbook.read("x.zip", out.getvalue())


def test_rows_that_share_no_name_do_not_multiply():
    rows = [{"sample_no": str(i), f"k{i}": 1} for i in range(7000)]
    with pytest.raises(InputError, match="different names"):
        lab_table.open_table(io.BytesIO(json.dumps(rows).encode()))


def test_a_row_of_too_many_columns_is_told():
    with pytest.raises(InputError, match="more than 2,000 columns"):
        list(lab_table.open_table(io.BytesIO(b"sample_no,fe\n" + b"," * 5000 + b"\n")).rows)


def test_a_picture_is_refused_by_its_heading():
    out = io.BytesIO()
    Image.new("1", (20_000, 20_000)).save(out, "PNG")
    assert len(out.getvalue()) < 60_000
    with pytest.raises(InputError, match="at most 40 million"):
        pictures.redrawn(out.getvalue())


def test_a_picture_is_drawn_in_a_process_that_may_not_take_more():
    out = io.BytesIO()
    Image.new("RGB", (6000, 6000)).save(out, "PNG")
    fresh = Image.open(io.BytesIO(pictures.redrawn(out.getvalue())))
    assert max(fresh.size) == 2400
    with pytest.raises(apart.Ended):
        apart.short(20, 20, pictures.draw, out.getvalue(), 2400)


# ---- processes of their own ------------------------------------------------------------------------------------
def ends() -> None:
    os._exit(9)


def takes_all() -> int:
    return len(bytearray(8_000_000_000))


def for_ever() -> None:
    while True:
        pass


def wrong() -> None:
    raise InputError("field", "why")


@pytest.mark.parametrize("work", [ends, takes_all, for_ever])
def test_what_ends_badly_ends_alone(work):
    with pytest.raises(apart.Ended):
        apart.short(300, 1, work)


def test_what_went_wrong_there_is_told_here():
    with pytest.raises(InputError) as refused:
        apart.short(300, 20, wrong)
    assert (refused.value.field, refused.value.why) == ("field", "why")
    assert apart.short(300, 20, os.path.join, "a", "b") == "a/b"


def test_whoever_comes_when_all_places_are_taken_is_told_at_once():
    turns = apart.Turns(1, 1)
    with turns.turn():
        assert turns._places.acquire(blocking=False)  # somebody waits
        with pytest.raises(apart.Ended, match="try again"), turns.turn():
            pass


def test_a_file_that_ends_its_reader_is_set_aside_at_the_second_try(db, fleet, monkeypatch):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        kept = files.keep(c, fleet_id, io.BytesIO(b"sample_no,fe\nX1,2\n"), name="bad.csv", lab="Lab A", by="t")
    begun = []

    def ended(*_given):
        with db.fleet(fleet_id) as c:
            c.execute("UPDATE import_file SET state = 'reading', begun = begun + 1 WHERE import_file_id = %s", [kept.import_file_id])
        begun.append(1)
        raise apart.Ended("work", "needed more memory or time than it may have, and was stopped")

    monkeypatch.setattr(apart, "long", ended)
    with pytest.raises(apart.Ended):  # the queue tries it again
        worker.take_in_apart(db, fleet_id, kept.import_file_id, TODAY)
    worker.take_in_apart(db, fleet_id, kept.import_file_id, TODAY)
    with db.fleet(fleet_id) as c:
        file = c.execute("SELECT state, trouble FROM import_file WHERE import_file_id = %s", [kept.import_file_id]).fetchone()
    assert file["state"] == "refused"
    assert "ended its reader 2 times" in file["trouble"]
    assert len(begun) == 2


# ---- downloads that nobody reads -------------------------------------------------------------------------------
@pytest.mark.browser
def test_downloads_that_nobody_reads_take_no_connection(db, fleet, served):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        kept = files.keep(c, fleet_id, io.BytesIO(os.urandom(24_000_000)), name="big.bin", lab="Lab A", by="t", state="done")
    login = "reader" + fleet.replace(" ", "").lower()
    people.add(db, fleet, login, "Reader", PASSWORD, "planner")
    with httpx.Client(base_url=served.url, timeout=20) as client:
        client.post("/sign-in", data={"login": login, "password": PASSWORD})
        open_ones = []
        for _ in range(8):  # more than the pool has connections
            stream = client.stream("GET", f"/lab/files/{kept.import_file_id}/original")
            open_ones.append((stream, stream.__enter__()))
            assert open_ones[-1][1].status_code == 200
        assert client.get("/").status_code == 200
        assert client.get("/healthy").status_code == 200
        for stream, _ in open_ones:
            stream.__exit__(None, None, None)


def test_a_file_comes_back_byte_for_byte(db, fleet, planner_client):
    client, _ = planner_client
    content = os.urandom(2 * files.PIECE_BYTES + 7)
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        kept = files.keep(c, fleet_id, io.BytesIO(content), name="three.bin", lab="Lab A", by="t", state="done")
    assert client.get(f"/lab/files/{kept.import_file_id}/original").content == content


def test_examples_are_still_taken(planner_client, fleet):
    client, csrf = planner_client
    document = small_register(fleet)
    answer = client.post("/library/files", data={"csrf": csrf}, files={"file": ("register.json", json.dumps(document).encode())})
    assert (answer.status_code, "Nothing was changed" in answer.text) == (200, False)


# ---- two in each other's way -----------------------------------------------------------------------------------
@pytest.fixture
def in_the_way(monkeypatch):
    """Top-ups whose transaction is undone so many times because another stood in its way, after they were written."""

    def fail(times):
        real, tries = notes.top_up, []

        def top_up(*given):
            tries.append(1)
            real(*given)
            if len(tries) <= times:
                raise DeadlockDetected("deadlock detected")

        monkeypatch.setattr(notes, "top_up", top_up)
        return tries

    return fail


@pytest.mark.parametrize(("times", "answer", "tried", "kept"), [(1, 200, 2, 1), (2, 200, 3, 1), (9, 503, 3, 0)])
def test_a_transaction_that_stood_in_another_s_way_goes_again_and_counts_once(db, fleet, planner, in_the_way, times, answer, tried, kept):
    client = TestClient(create_app(db, today=TODAY), follow_redirects=True, raise_server_exceptions=False)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    with db.fleet(fleets.find(db, fleet)) as c:
        ids = c.execute("SELECT unit_id, compartment_id FROM compartment").fetchone()
    page = client.get(f"/units/{ids['unit_id']}").text
    tries = in_the_way(times)
    data = {"csrf": re.search(r'name="csrf" value="([^"]+)"', page)[1], "compartment_id": ids["compartment_id"],
            "on": TODAY.isoformat(), "meter": "3900", "litres": "1.5"}  # fmt: skip
    said = client.post(f"/units/{ids['unit_id']}/top-up", data=data)
    with db.fleet(fleets.find(db, fleet)) as c:
        found = c.execute("SELECT count(*) AS n FROM top_up WHERE litres = 1.5").fetchone()["n"]
    assert (said.status_code, len(tries), found) == (answer, tried, kept), said.text[:300]
    assert answer == 200 or "Nothing was changed: send it again" in said.text


def test_what_is_too_large_to_be_kept_is_not_sent_twice(db, fleet, planner, monkeypatch):
    """A file of megabytes is read as it comes; what stood in its way is told, and it is sent again by whoever has it."""
    client = TestClient(create_app(db, today=TODAY), raise_server_exceptions=False)
    client.post("/sign-in", data={"login": planner[0], "password": planner[1]})
    tries = []

    def keep(*given, **more):
        tries.append(1)
        raise DeadlockDetected("deadlock detected")

    monkeypatch.setattr(inbox, "register_in", keep)
    csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/lab").text)[1]
    file = {"file": ("l.csv", b"sample_no,unit\n" + b"x,y\n" * 400_000, "text/csv")}
    said = client.post("/lab", data={"csrf": csrf}, files=file)
    assert (said.status_code, tries) == (503, [1])
