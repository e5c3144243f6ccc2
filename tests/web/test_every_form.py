"""Every form of register, plan, lab and house, posted by hand: what is right goes in and shows, what is wrong is said by its field."""

import io
import re

import pytest
from fastapi.testclient import TestClient
from PIL import Image

from conftest import TODAY
from vornet.flows.house import fleets, people
from vornet.web.app import create_app

PASSWORD = "right-and-long"


class Desk:
    """A signed-in person at a desk, who sends forms."""

    def __init__(self, client, login):
        self.client = client
        client.post("/sign-in", data={"login": login, "password": PASSWORD})
        self.csrf = re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]

    def get(self, path):
        answer = self.client.get(path)
        assert answer.status_code == 200, (path, answer.status_code)
        return answer.text

    def post(self, path, status=303, files=None, **fields):
        """Send a form; the page that follows (303) or the answer's text."""
        answer = self.client.post(path, data={"csrf": self.csrf, **fields}, files=files, follow_redirects=False)
        assert answer.status_code == status, (path, answer.status_code, re.sub(r"<[^>]+>", " ", answer.text)[-800:])
        return self.get(answer.headers["location"].split("#")[0]) if status == 303 else answer.text

    def refused(self, path, *words, status=422, files=None, **fields):
        text = self.post(path, status, files, **fields)
        for word in words:
            assert word in text, (path, word)
        return text


@pytest.fixture
def desks(db, fleet):
    """One client and desk a role, of one fleet."""
    made = {}
    app = create_app(db, today=TODAY)
    for role in ("planner", "technician", "analyst", "admin"):
        login = role[:4] + fleet.replace(" ", "").lower()
        people.add(db, fleet, login, f"The {role}", PASSWORD, role)
        made[role] = Desk(TestClient(app, headers={"Accept-Language": "en"}), login)
    return made


@pytest.fixture
def ids(db, fleet):
    with db.fleet(fleets.find(db, fleet)) as c:
        row = c.execute("SELECT unit_id, compartment_id, oil_id FROM compartment").fetchone()
    return row


def one(db, fleet, sql, *given):
    with db.fleet(fleets.find(db, fleet)) as c:
        return c.execute(sql, given).fetchone()


# ---- units -----------------------------------------------------------------------------------------------------
def test_a_unit_is_changed_and_what_is_wrong_is_said(db, fleet, desks, ids):
    desk, unit = desks["planner"], f"/units/{ids['unit_id']}"
    facts = {
        "unit": "MV Test",
        "depot": "North quay",
        "model": "T1",
        "duty": "ferry",
        "meter_unit": "h",
        "serial": "S-1",
        "plate": "",
        "year": "2012",
    }
    assert "North quay" in desk.post(unit + "/edit", **facts)
    assert "North quay" in desk.get(unit + "/edit")
    desk.refused(unit + "/edit", "is not a whole number", "S-2", **{**facts, "year": "12.5", "serial": "S-2"})
    assert desk.client.get("/units/999999/edit").status_code == 404


def test_a_meter_is_read_forwards_only(db, fleet, desks, ids):
    desk, path = desks["technician"], f"/units/{ids['unit_id']}/meter"
    assert "3,900" in desk.post(path, meter="3,900", on="2026-01-14", meter_no="1")
    desk.refused(path, "the meter goes back", meter="3000", on="2026-01-14", meter_no="1")
    desk.refused(path, "cannot be", meter="39000", on="2026-01-15", meter_no="1")
    desk.refused(path, "is missing", meter="", on="2026-01-14", meter_no="1")
    desk.refused(path, "is not a number", meter="12,34,5", on="2026-01-14", meter_no="1")
    desk.refused(path, "still to come", meter="3910", on="2026-02-14", meter_no="1")
    desk.refused(path, "is not a date", meter="3910", on="soon", meter_no="1")
    desk.refused(path, "Meter", meter="10", on="2026-01-14", meter_no="2")
    assert one(db, fleet, "SELECT max(meter) AS m FROM meter_reading")["m"] == 3900


def test_the_browsers_language_says_what_a_comma_is(db, fleet, desks, ids):
    desk, path = desks["technician"], f"/units/{ids['unit_id']}/meter"
    desk.client.headers["Accept-Language"] = "nb-NO,nb;q=0.9,en;q=0.8"
    desk.post(path, meter="3.870", on="2026-01-12", meter_no="1")
    desk.post(path, meter="3.871,5", on="2026-01-13", meter_no="1")
    desk.client.headers["Accept-Language"] = "*"
    desk.refused(path, "may mean 3872 or 3.872", meter="3,872", on="2026-01-14", meter_no="1")
    with db.fleet(fleets.find(db, fleet)) as c:
        read = [r["meter"] for r in c.execute("SELECT meter FROM meter_reading WHERE on_day >= '2026-01-12' ORDER BY on_day").fetchall()]
    assert read == [3870.0, 3871.5]


def test_oil_made_up_and_levels_read(db, fleet, desks, ids):
    desk, path = desks["technician"], f"/units/{ids['unit_id']}/top-up"
    at = {"compartment_id": str(ids["compartment_id"]), "on": "2026-01-14", "meter": "3860"}
    desk.post(path, litres="2,5", reading_before="20 %", reading_after="0.9", **at)
    assert one(db, fleet, "SELECT litres, extra FROM top_up") == {"litres": 2.5, "extra": {"reading_before": 0.2, "reading_after": 0.9}}
    desk.refused(path, "does not fit", litres="61", **at)
    desk.refused(path, "above the one before", litres="1", reading_before="0.9", reading_after="0.2", **at)
    desk.refused(path, "give what went in", litres="", **at)
    desk.refused(path, "lies near them", litres="", reading_before="7", **at)
    desk.refused(path, "choose one of this unit", litres="1", **{**at, "compartment_id": "999999"})
    desk.post(path, litres="", reading_before="0.7", **{**at, "meter": "3861"})
    assert one(db, fleet, "SELECT extra FROM level_check")["extra"] == {"reading": 0.7}


def test_repairs_and_laying_up(db, fleet, desks, ids):
    technician, planner, unit = desks["technician"], desks["planner"], f"/units/{ids['unit_id']}"
    at = {"compartment_id": str(ids["compartment_id"]), "on": "2026-01-14", "meter": "3860"}
    assert "new seal" in technician.post(unit + "/event", kind="repair", litres_out="3", litres_in="3", note="new seal", **at)
    technician.refused(unit + "/event", "one of repair", kind="picnic", **at)
    technician.refused(unit + "/event", "more than the 60 L", kind="repair", litres_out="70", **at)
    technician.refused(unit + "/event", "less than nothing", kind="repair", litres_out="-1", **at)
    planner.post(unit + "/state", state="laid_up", on="2026-01-10", note="dry dock")
    assert one(db, fleet, "SELECT due_driver FROM standing")["due_driver"] == "calendar"
    planner.refused(unit + "/state", "one of in_service", state="sold", on="2026-01-10", note="")
    planner.post(unit + "/state", state="in_service", on="2026-01-12", note="")
    assert technician.client.post(unit + "/state", data={"csrf": technician.csrf, "state": "retired"}).status_code == 403


def test_a_template_makes_another_unit(db, fleet, desks, ids):
    desk = desks["planner"]
    desk.post(f"/units/{ids['unit_id']}/template", name="Ferry T1")
    assert "Ferry T1" in desk.get("/library/templates")
    template = one(db, fleet, "SELECT template_id FROM unit_template")["template_id"]
    fields = {"template": str(template), "unit": "MV Second", "meter_unit": "h", "meter": "10", "on": "2026-01-10", "c.0.with": "yes",
              "c.0.compartment": "engine", "c.0.oil": "Test 15W-40", "c.0.system_volume_l": "62", "c.0.capacity_l": "56",
              "c.1.compartment": "gearbox", "c.1.kind": "gearbox", "c.1.oil": "Test 15W-40", "c.1.system_volume_l": "20",
              "c.1.capacity_l": "18"}  # fmt: skip
    desk.refused("/units/new", "is not a number", **{**fields, "c.0.system_volume_l": "much"})
    assert "MV Second" in desk.post("/units/new", **fields)
    desk.refused("/units/new", "already", **fields)
    sql = "SELECT c.name, system_volume_l FROM compartment c JOIN unit u USING (fleet_id, unit_id) WHERE u.name = 'MV Second'"
    with db.fleet(fleets.find(db, fleet)) as c:
        names = {r["name"]: r["system_volume_l"] for r in c.execute(sql).fetchall()}
    assert names == {"engine": 62, "gearbox": 20}
    assert "MV Test" in desk.get(f"/units/new?copy={ids['unit_id']}")
    desk.post(f"/library/templates/{template}/remove")
    desk.refused(f"/library/templates/{template}/remove", "is not in this fleet")


def test_papers_hang_on_a_unit(db, fleet, desks, ids):
    desk, path = desks["planner"], f"/units/{ids['unit_id']}/attachments"
    picture = io.BytesIO()
    Image.new("RGB", (30, 20), "teal").save(picture, "PNG")
    desk.post(path, files={"file": ("plate æ.png", picture.getvalue())}, kind="plate")
    desk.post(path, files={"file": ("book.pdf", b"%PDF-1.4 x")}, kind="manual", compartment_id=str(ids["compartment_id"]))
    desk.refused(path, "neither a PDF nor a picture", files={"file": ("x.exe", b"MZ")}, kind="manual")
    desk.refused(path, "one of manual", files={"file": ("book.pdf", b"%PDF-1.4 x")}, kind="secret")
    desk.refused(path, "choose one first", kind="manual")
    kept = one(db, fleet, "SELECT attachment_id, media_type FROM attachment WHERE kind = 'plate'")
    assert kept["media_type"] == "image/jpeg"
    assert desk.client.get(f"/attachments/{kept['attachment_id']}").headers["content-type"] == "image/jpeg"
    desk.post(f"/attachments/{kept['attachment_id']}/remove")
    assert desk.client.get(f"/attachments/{kept['attachment_id']}").status_code == 404


# ---- compartments ----------------------------------------------------------------------------------------------
def test_a_compartments_register_by_form(db, fleet, desks, ids):
    desk, path = desks["planner"], f"/compartments/{ids['compartment_id']}/register"
    facts = {"compartment": "engine", "kind": "engine", "fuel": "diesel", "family": "T1 engine", "meter_no": "1", "oil": "Test 15W-40",
             "interval_h": "450", "interval_days": "365", "cap_h": "1,000", "system_volume_l": "60", "capacity_l": "55",
             "capacity_without_filter_l": "53", "volume_between_marks_l": "4", "drain_points.0.place": "sump",
             "drain_points.0.torque_min_nm": "60", "drain_points.0.torque_max_nm": "75", "filters.0.part": "F-1"}  # fmt: skip
    desk.post(path, **facts)
    row = one(db, fleet, "SELECT cap_meter, volume_between_marks_l AS marks, facts FROM compartment")
    assert (row["cap_meter"], row["marks"], row["facts"]["filters"][0]["part"]) == (1000, 4, "F-1")
    assert one(db, fleet, "SELECT meter FROM drain_interval ORDER BY effective_from DESC, interval_id DESC LIMIT 1")["meter"] == 450
    shown = desk.get(path)
    assert 'value="450"' in shown
    assert "F-1" in shown
    desk.refused(path, "is not a number", **{**facts, "system_volume_l": "sixty"})
    desk.refused(path, "there is no oil named", **{**facts, "oil": "Nobody's 10W"})
    desk.refused(path, "has one meter", **{**facts, "meter_no": "2"})
    desk.refused(path, "bears", **{**facts, "drain_points.0.size": "M12x1.5", "drain_points.0.torque_max_nm": "900"})


def test_a_compartment_comes_and_goes(db, fleet, desks, ids):
    desk, path = desks["planner"], f"/units/{ids['unit_id']}/compartments/new"
    facts = {
        "compartment": "gearbox",
        "kind": "gearbox",
        "oil": "Test 15W-40",
        "interval_h": "1000",
        "system_volume_l": "20",
        "capacity_l": "18",
    }
    desk.post(path, **facts)
    desk.refused(path, "already", **facts)
    gearbox = one(db, fleet, "SELECT compartment_id FROM compartment WHERE name = 'gearbox'")["compartment_id"]
    desk.post(f"/compartments/{gearbox}/remove")
    desk.refused(f"/compartments/{ids['compartment_id']}/remove", "retire the unit when it goes")
    assert desk.client.post("/compartments/999999/remove", data={"csrf": desk.csrf}).status_code == 404


def test_a_drain_at_the_desk(db, fleet, desks, ids):
    desk, path = desks["technician"], f"/compartments/{ids['compartment_id']}/drain"
    form = {"on": "2026-01-14", "meter": "3,950", "volume_out_l": "52", "level_missing_l": "2", "volume_in_l": "54", "filter_changed": "yes",
            "magnet_grade": "1", "oil": "Test 15W-40"}  # fmt: skip
    assert 'id="residual">6.0<' in desk.post(path + "/figures", 200, **form)
    assert 'id="residual">8.0<' in desk.post(path + "/figures", 200, **{**form, "volume_out_l": "54", "level_missing_l": "-2"})  # overfull
    assert "came out, but" in desk.post(path + "/figures", 200, **{**form, "volume_out_l": "61"})
    desk.refused(path, "1 to put right", "goes back", **{**form, "meter": "3000"})
    desk.refused(path, "poured is more", **{**form, "volume_in_l": "90"})
    desk.refused(path, "a grade from 0 to 4", **{**form, "magnet_grade": "٣"})
    desk.post(path, **form)
    kept = one(db, fleet, "SELECT volume_out_l, level_missing_l, volume_in_l FROM drain ORDER BY on_day DESC LIMIT 1")
    assert kept == {"volume_out_l": 52, "level_missing_l": 2, "volume_in_l": 54}
    desk.refused(path, "is on record already", **form)


# ---- service items ---------------------------------------------------------------------------------------------
def test_a_service_item_is_planned_done_and_taken_out(db, fleet, desks, ids):
    planner, technician, path = desks["planner"], desks["technician"], f"/units/{ids['unit_id']}/items"
    planner.post(path, item="Coolant", every_days="365", reading_type="coolant_mix", high="-20", compartment="")
    planner.refused(path, "is not a whole number", item="Belt", every_days="12.5", compartment="")
    planner.refused(path, "never comes due", item="Belt", every_nth="2", nth_of="Nothing", compartment="")
    item = one(db, fleet, "SELECT item_id FROM service_item")["item_id"]
    assert 'value="365"' in planner.get(f"/items/{item}/edit")
    technician.refused(f"/items/{item}", "say why", on="2026-01-14", outcome="not_done", note="")
    technician.refused(f"/items/{item}", "goes back", on="2026-01-14", outcome="done", meter="3000")
    text = technician.post(f"/items/{item}", on="2026-01-14", outcome="done", meter="3860", value="-31")
    assert "in tolerance" in text
    assert one(db, fleet, "SELECT due_day FROM service_item")["due_day"].isoformat() == "2027-01-14"
    assert "Coolant" in planner.get("/plan?show=items&days=400")
    planner.post(f"/items/{item}/remove")
    assert planner.client.get(f"/items/{item}").status_code == 404


# ---- oils, many at once, limits --------------------------------------------------------------------------------
def test_oils_and_their_deliveries(db, fleet, desks):
    desk = desks["analyst"]
    text = desk.post(
        "/library/oils/new", name="Fresh 10W-30", grade="10W-30", density_kg_l="0.865", v100="11.8", bn="9,5", approvals="A-1, B-2"
    )
    assert "Fresh 10W-30" in text
    oil = one(db, fleet, "SELECT oil_id, new_values[27] AS bn FROM oil WHERE name = 'Fresh 10W-30'")
    assert oil["bn"] == 9.5
    desk.refused("/library/oils/new", "already", name="Fresh 10W-30")
    desk.refused(f"/library/oils/{oil['oil_id']}", "is not a number", name="Fresh 10W-30", v100="thick")
    desk.post(f"/library/oils/{oil['oil_id']}/batches", batch="L-9", received_on="2026-01-02", litres="200")
    desk.refused(f"/library/oils/{oil['oil_id']}/batches", "is not a date", batch="L-10", received_on="later", litres="200")
    assert "L-9" in desk.get(f"/library/oils/{oil['oil_id']}")


def test_many_at_once_is_looked_at_before_it_is_done(db, fleet, desks, ids):
    desk = desks["planner"]
    chosen = {"id": str(ids["compartment_id"]), "what": "interval", "counts": "h"}
    assert "500" in desk.post("/library/change", 200, step="look", value="450", **chosen)
    assert one(db, fleet, "SELECT max(meter) AS m FROM drain_interval")["m"] == 500
    desk.post("/library/change", 200, step="do", value="450", **chosen)
    assert one(db, fleet, "SELECT count(*) AS n FROM drain_interval WHERE meter = 450")["n"] == 1
    desk.refused("/library/change", "always due", step="do", value="0", **chosen)
    desk.refused("/library/change", "is missing", step="do", value="", **{**chosen, "what": "family"})
    assert "Nothing" not in desk.post("/library/change", 303, step="do", value="1", what="interval", id="x")


def test_limits_and_precision_are_versions(db, fleet, desks):
    desk = desks["analyst"]
    tried = {"duty": "diesel_engine", "watch.fe.high": "55", "act.fe.high": "110"}
    assert "would" in desk.post("/limits/what-if", 200, **tried).lower()
    desk.refused("/limits", "say why", why="", **tried)
    desk.post("/limits", why="ours run cleaner", **tried)
    desk.refused("/limits", "needs both", why="x", duty="diesel_engine", **{"watch.fe.high": "55", "act.fe.high": ""})
    desk.refused("/limits/precision", "say why", why="", **{"scale.fe": "0.2"})
    desk.post("/limits/precision", why="measured twice", **{"scale.fe": "0.2"})
    assert one(db, fleet, "SELECT count(*) AS n FROM limit_set")["n"] == 2


# ---- lab, house ------------------------------------------------------------------------------------------------
def test_labs_bottles_and_parcels(db, fleet, desks, ids):
    desk = desks["planner"]
    desk.post("/lab/labs", name="Pier lab", way="hand", usual_days="8", depots="Quay", address="", key="")
    desk.refused("/lab/labs", "1 to 365", name="Far lab", way="hand", usual_days="soon", address="", key="")
    lab = one(db, fleet, "SELECT lab_id FROM lab WHERE name = 'Pier lab'")["lab_id"]
    desk.post("/lab/bottles", sample_no="B-77", compartment=str(ids["compartment_id"]), oil="", on="2026-01-14", meter="3,860", minutes="7,5")
    desk.refused("/lab/bottles", "is not a number", sample_no="B-78", compartment=str(ids["compartment_id"]), on="2026-01-14", meter="much")
    bottle = one(db, fleet, "SELECT bottle_id, meter FROM bottle")
    assert bottle["meter"] == 3860
    desk.post(f"/lab/bottles/{bottle['bottle_id']}", do="lose", why="dropped")
    desk.post(f"/lab/bottles/{bottle['bottle_id']}", do="find")
    desk.refused(f"/lab/bottles/{bottle['bottle_id']}", "lose, find or unpack", do="drink")
    assert "B-77" in desk.post("/lab/parcels", id=str(bottle["bottle_id"]), lab=str(lab), note="blue box")
    parcel = one(db, fleet, "SELECT shipment_id FROM shipment")["shipment_id"]
    desk.post(f"/lab/parcels/{parcel}/send", on="2026-01-15")
    desk.post("/lab/received", sample_no="B-77", on="2026-01-15")
    assert "B-77" in desk.client.get("/lab/bottles.csv").text
    assert desk.client.get(f"/lab/parcels/{parcel}/packing-list.pdf").content[:5] == b"%PDF-"


def test_what_is_dropped_on_the_inbox(db, fleet, desks):
    desk = desks["planner"]
    answer = desk.client.post("/lab", data={"csrf": desk.csrf}, files={"file": ("x.csv", b"")}, follow_redirects=False)
    assert "is+empty" in answer.headers["location"].replace("%20", "+")
    document = b'{"units": [{"unit": "MV Third", "meter_unit": "h", "compartments": []}]}'
    assert "MV Third" not in desk.get("/library")
    desk.post("/lab", files={"file": ("register.json", document)})
    assert one(db, fleet, "SELECT count(*) AS n FROM unit WHERE name = 'MV Third'")["n"] == 1
    desk.post("/lab/retry")


def test_people_and_settings(db, fleet, desks):
    admin = desks["admin"]
    made = admin.post("/admin/people", 200, name="Fresh Face", roles=["viewer", "planner"])
    assert re.search(r"http://[^<]+/invitation/[\w-]{30,}", made)
    assert "Fresh Face" in admin.get("/admin/people")
    admin.refused("/admin/people", "is not one of", name="x", roles="king")
    admin.refused("/admin/people", "choose one or more", name="x")
    admin.refused("/admin/people", "say who is invited", name=" ", roles="viewer")
    account = one(db, fleet, "SELECT account_id FROM membership JOIN account USING (account_id) WHERE roles = ARRAY['technician']")[
        "account_id"
    ]
    admin.post(f"/admin/people/{account}", do="roles", roles=["technician", "analyst"])
    assert "/password/" in admin.post(f"/admin/people/{account}", 200, do="password")
    admin.post(f"/admin/people/{account}", do="sign_out")
    admin.post(f"/admin/people/{account}", do="remove")
    admin.post("/admin/settings", zone="UTC", measures="us")
    admin.refused("/admin/settings", "zone", zone="Moon/Base", measures="si")
    assert "qt" in desks["planner"].get("/library")
    assert "person invited" in admin.get("/admin/audit")
    assert (
        admin.client.get("/admin/audit.csv?since=2020-01-01").text.startswith("audit_id") or "at" in admin.client.get("/admin/audit.csv").text
    )


def test_ones_own_sign_in(fleet, desks):
    desk = desks["planner"]
    desk.refused("/me/password", "password", old="wrong-one", new="another-long-one")
    assert "vnt_" in desk.post("/me/tokens", 200, name="script", scopes="read", days="30")
    desk.refused("/me/tokens", "days", name="script", scopes="read", days="many")
    desk.post("/me/password", old=PASSWORD, new="another-long-one")


def test_a_form_without_its_token_changes_nothing(db, fleet, desks, ids):
    desk = desks["planner"]
    for token in ("", "wrong", "ключ", desk.csrf + "x"):
        answer = desk.client.post(f"/units/{ids['unit_id']}/edit", data={"csrf": token, "unit": "Stolen"})
        assert answer.status_code == 403, token
    assert one(db, fleet, "SELECT name FROM unit")["name"] == "MV Test"
