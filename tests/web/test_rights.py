"""Nobody signs for another: attacks on rights, as each was once possible, and the ways that took their place."""

import json
import re
import threading
from datetime import date

import httpx
import pytest

from conftest import TODAY, small_register
from vornet.core.errors import InputError
from vornet.flows.house import fleets, links, people, sessions, tokens
from vornet.flows.judge import in_force
from vornet.flows.register import dump, register
from vornet.flows.work import cards, entries

PASSWORD = "right-and-long"


def tag(fleet):
    return re.sub(r"\W", "", fleet.lower())


class At:
    """Somebody at the desk."""

    def __init__(self, served, login, password=PASSWORD):
        self.client = httpx.Client(base_url=served.url, timeout=120)
        self.client.post("/sign-in", data={"login": login, "password": password})

    @property
    def csrf(self):
        return re.search(r'name="csrf" value="([^"]+)"', self.client.get("/me").text)[1]

    def post(self, path, **form):
        return self.client.post(path, data={"csrf": self.csrf, **form})

    @property
    def inside(self):
        return self.client.get("/me").status_code == 200


@pytest.fixture
def people_of(served, db, fleet):
    """(fleet's id, somebody of each role that is asked for)."""

    def make(*roles, login=""):
        name = login or f"{roles[0]}-{tag(fleet)}"
        people.add(db, fleet, name, f"A {' '.join(roles).title()}", PASSWORD, *roles)
        return At(served, name)

    return fleets.find(db, fleet), make


def account(db, fleet_id, login):
    with db.fleet(fleet_id) as c:
        return next(m for m in people.members(c) if m["login"] == login)


def visitor_of(db, fleet_id, fleet, login):
    m = account(db, fleet_id, login)
    return people.Visitor(m["account_id"], m["login"], m["display_name"], fleet_id, fleet, tuple(m["roles"]), "")


FORGED = {"unit": "MV Test", "compartment": "engine", "on": "2026-01-10", "interval_h": 450, "origin": "approved",
          "approved_by": "The Manager", "why": "all well"}  # fmt: skip


def intervals(db, fleet_id):
    with db.fleet(fleet_id) as c:
        return c.execute("SELECT meter, origin, approved_by, why FROM drain_interval ORDER BY interval_id").fetchall()


# ---- a file is no signature ------------------------------------------------------------------------------------------------
def test_an_analyst_s_file_does_not_edit_the_register(db, people_of):
    fleet_id, make = people_of
    before = intervals(db, fleet_id)
    analyst = make("analyst")
    content = json.dumps({"units": [{"unit": "MV Forged", "meter_unit": "h", "compartments": []}], "intervals": [FORGED]}).encode()
    answer = analyst.client.post("/lab", data={"csrf": analyst.csrf}, files={"file": ("r.json", content)}, follow_redirects=True)
    assert "is a register document" in answer.text
    assert "Nothing was changed" in answer.text
    assert intervals(db, fleet_id) == before
    with db.fleet(fleet_id) as c:
        assert c.execute("SELECT count(*) AS n FROM unit").fetchone()["n"] == 1


def test_a_planner_s_may_and_yet_brings_no_approval(db, people_of):
    fleet_id, make = people_of
    planner = make("planner")
    content = json.dumps({"units": [], "intervals": [FORGED, FORGED | {"interval_h": 2000, "on": "2026-01-11"}]}).encode()
    planner.client.post("/lab", data={"csrf": planner.csrf}, files={"file": ("r.json", content)})
    assert 2000 not in {r["meter"] for r in intervals(db, fleet_id)}  # beyond its cap and its evidence: left out, and told
    last = intervals(db, fleet_id)[-1]
    assert (last["origin"], last["approved_by"]) == ("stated", "A Planner")
    assert last["why"] == "stated by file: approved by The Manager. all well"


def test_a_register_token_forges_no_approval(db, fleet, people_of):
    fleet_id, make = people_of
    planner = make("planner")
    who = visitor_of(db, fleet_id, fleet, f"planner-{tag(fleet)}")
    with db.fleet(fleet_id) as c:
        key = tokens.make(c, fleet_id, who.account_id, who.name, "robot", ["register"], 30)
    headers, content = {"Authorization": f"Bearer {key}"}, json.dumps({"intervals": [FORGED]})
    answer = httpx.put(f"{planner.client.base_url}/api/v1/register", content=content, headers=headers, timeout=60)
    assert answer.status_code == 200
    assert [(r["origin"], r["approved_by"]) for r in intervals(db, fleet_id)][-1] == ("stated", "A Planner")
    with db.fleet(fleet_id) as c:  # no decision takes it for an approval
        row = c.execute("SELECT origin FROM drain_interval WHERE origin = 'approved'").fetchall()
    assert row == []


def test_a_fleet_s_own_file_comes_back_without_doubling_its_approvals(db, fleet):
    fleet_id = fleets.find(db, fleet)
    with db.fleet(fleet_id) as c:
        place = c.execute("SELECT compartment_id FROM compartment").fetchone()["compartment_id"]
        said = in_force.Statement(compartment_id=place, on=date(2025, 12, 1), origin="approved", by="The Manager", length=550, why="held")
        in_force.say(c, fleet_id, [said], date(2025, 12, 1))
    before = intervals(db, fleet_id)
    content = json.dumps(dump.dump(db, fleet, TODAY)).encode()
    for _ in range(2):
        register.load(db, content, by="t", today=TODAY)
    assert intervals(db, fleet_id) == before


def test_in_another_installation_it_is_only_stated_and_stays_so(db, fleet, fleet_name):
    register.load(db, json.dumps(small_register(fleet_name) | {"intervals": [FORGED]}).encode(), by="the loader", today=TODAY)
    fleet_id = fleets.find(db, fleet_name)
    once = intervals(db, fleet_id)
    assert once[-1]["origin"] == "stated"
    register.load(db, json.dumps(dump.dump(db, fleet_name, TODAY)).encode(), by="another", today=TODAY)
    assert intervals(db, fleet_id) == once


# ---- another fleet's people --------------------------------------------------------------------------------------------------
@pytest.fixture
def two(served, db, fleet, fleet_name):
    """Somebody in two fleets, and the admin of the second one."""
    register.load(db, json.dumps(small_register(fleet_name)).encode(), by="t", today=TODAY)
    both, boss = f"both-{tag(fleet)}", f"boss-{tag(fleet_name)}"
    people.add(db, fleet, both, "Of Both", PASSWORD, "planner")
    people.add(db, fleet_name, both, "Renamed", "quite-another-one", "viewer")
    people.add(db, fleet_name, boss, "The Boss", PASSWORD, "admin")
    return fleets.find(db, fleet), fleets.find(db, fleet_name), both, boss


def test_adding_a_sign_in_that_exists_changes_neither_its_name_nor_its_password(served, db, fleet, two):
    one, other, both, _ = two
    assert account(db, one, both)["display_name"] == account(db, other, both)["display_name"] == "Of Both"
    assert At(served, both).inside
    assert not At(served, both, "quite-another-one").inside
    with pytest.raises(InputError, match="already"):
        people.add(db, fleet, both, "Again", "yet-another-one", "admin")
    assert account(db, one, both)["roles"] == ["planner"]


def test_an_admin_signs_nobody_out_elsewhere(served, db, two):
    _one, other, both, boss = two
    there = At(served, both)  # in the first fleet
    admin = At(served, boss)
    page = admin.client.get("/admin/people").text
    row = next(r for r in page.split("<tr>") if f"<td>{both}</td>" in r)
    assert '<td class="r num">0</td>' in row  # nor sees what they have open elsewhere
    admin.post(f"/admin/people/{account(db, other, both)['account_id']}", do="sign_out")
    assert there.inside


def test_an_admin_gives_no_password_to_who_is_elsewhere_too(served, db, two):
    _one, other, both, boss = two
    admin = At(served, boss)
    answer = admin.post(f"/admin/people/{account(db, other, both)['account_id']}", do="password")
    assert (answer.status_code, "not this fleet&#39;s alone" in answer.text) == (422, True)
    assert "/password/" not in answer.text


def test_an_invitation_tells_nothing_of_who_exists(served, db, two):
    _one, _other, both, boss = two
    admin = At(served, boss)
    known, unknown = (admin.post("/admin/people", name=name, roles="analyst") for name in (both, "nobody-at-all"))
    shape = [re.sub(r"/invitation/[\w-]+|csrf\" value=\"[^\"]+", "", a.text.replace("nobody-at-all", both)) for a in (known, unknown)]
    assert known.status_code == unknown.status_code == 200
    assert len(shape[0].splitlines()) == len(shape[1].splitlines())
    assert "keeps" not in known.text


# ---- invitations ---------------------------------------------------------------------------------------------------------------
def invited(admin, name="Nina", roles=("analyst", "planner")):
    page = admin.client.post("/admin/people", data={"csrf": admin.csrf, "name": name, "roles": list(roles)})
    return re.search(r"/invitation/[\w-]+", page.text)[0]


def test_an_invitation_is_accepted_by_the_invitee_with_a_sign_in_of_their_own(served, db, fleet, people_of):
    fleet_id, make = people_of
    link = invited(make("admin"))
    stranger = httpx.Client(base_url=served.url, timeout=60)
    page = stranger.get(link).text
    assert "invites Nina to work here as <b>planner and analyst</b>" in page
    assert stranger.post(link, data={"login": "n n", "password": PASSWORD}).status_code == 422
    assert stranger.post(link, data={"login": f"nina-{tag(fleet)}", "password": "short"}).status_code == 422
    login = f"nina-{tag(fleet)}"
    assert stranger.post(link, data={"login": login, "name": "Nina N", "password": PASSWORD}).status_code == 303
    assert account(db, fleet_id, login)["roles"] == ["planner", "analyst"]
    nina = At(served, login)
    assert (nina.client.get("/lab").status_code, nina.client.get("/admin/people").status_code) == (200, 403)
    assert stranger.get(link).status_code == 404  # it works once
    assert stranger.post(link, data={"login": f"other-{tag(fleet)}", "password": PASSWORD}).status_code == 404


def test_who_has_a_sign_in_joins_with_it_and_keeps_what_they_do(served, db, fleet, people_of):
    fleet_id, make = people_of
    admin, viewer = make("admin"), make("technician")
    link = invited(admin, "Tom", ["planner"])
    assert "Join as A Technician" in viewer.client.get(link).text
    assert viewer.client.post(link, data={"do": "join"}).status_code == 303
    assert account(db, fleet_id, f"technician-{tag(fleet)}")["roles"] == ["technician", "planner"]
    with db.fleet(fleet_id) as c:
        told = c.execute("SELECT who, detail FROM audit WHERE what = 'invitation accepted'").fetchone()
    assert (told["who"], told["detail"]["invited_by"]) == ("A Technician", "A Admin")


def test_a_taken_sign_in_is_not_taken_over_by_an_invitation(served, db, fleet, people_of):
    _, make = people_of
    link = invited(make("admin"))
    make("planner")
    answer = httpx.post(f"{served.url}{link}", data={"login": f"planner-{tag(fleet)}", "password": "mine-from-now-on"}, timeout=60)
    assert (answer.status_code, "is taken" in answer.text) == (422, True)
    assert At(served, f"planner-{tag(fleet)}").inside


def test_an_invitation_is_taken_back_and_comes_from_here_only(served, db, people_of):
    fleet_id, make = people_of
    admin = make("admin")
    link = invited(admin)
    away = httpx.post(f"{served.url}{link}", data={"login": "x"}, headers={"Origin": "https://elsewhere.example"}, timeout=60)
    assert away.status_code == 403
    with db.fleet(fleet_id) as c:
        [waiting] = links.invitations(c)
    admin.post(f"/admin/invitations/{waiting['invitation_id']}/end")
    assert httpx.get(f"{served.url}{link}", timeout=60).status_code == 404
    assert admin.post(f"/admin/invitations/{waiting['invitation_id']}/end").status_code == 422


def test_only_the_hash_of_a_link_is_kept(db, people_of):
    fleet_id, make = people_of
    token = invited(make("admin")).split("/")[-1]
    with db.fleet(fleet_id) as c:
        kept = c.execute("SELECT token_hash, invitation::text AS all FROM invitation").fetchone()
    assert kept["token_hash"] == sessions.hashed(token)
    assert token not in kept["all"]


# ---- roles ---------------------------------------------------------------------------------------------------------------------
def test_a_workshop_of_one_signs_in_once(served, db, fleet, people_of):
    _, make = people_of
    alone = make("technician", "planner", "analyst", "manager", "admin")
    for path in ("/", "/jobs", "/lab", "/review", "/limits", "/decide", "/admin/people", "/admin/audit", "/units/new"):
        assert alone.client.get(path).status_code == 200, path
    assert "technician and planner and analyst and manager and admin" in alone.client.get("/me").text
    assert sessions.visitor(db, sessions.sign_in(db, f"technician-{tag(fleet)}", PASSWORD).token).may("sign_verdict")


def test_the_last_admin_stays_even_when_two_demote_each_other_at_once(db, fleet, people_of):
    fleet_id, make = people_of
    make("admin"), make("admin", login=f"second-{tag(fleet)}")
    logins = [f"admin-{tag(fleet)}", f"second-{tag(fleet)}"]
    who = [visitor_of(db, fleet_id, fleet, login) for login in logins]
    at_once, refused = threading.Barrier(2), []

    def demote(by, other):
        with db.fleet(fleet_id) as c:
            at_once.wait()
            try:
                people.set_roles(c, by, other.account_id, ["viewer"])
            except InputError as error:
                refused.append(error.why)

    both = [threading.Thread(target=demote, args=pair) for pair in (who, who[::-1])]
    [t.start() for t in both], [t.join() for t in both]
    assert len(refused) == 1
    assert "only admin" in refused[0]
    with db.fleet(fleet_id) as c:
        assert sum("admin" in m["roles"] for m in people.members(c)) == 1


def test_roles_are_ticked_and_told(served, db, fleet, people_of):
    fleet_id, make = people_of
    admin = make("admin")
    make("viewer")
    m = account(db, fleet_id, f"viewer-{tag(fleet)}")
    admin.client.post(f"/admin/people/{m['account_id']}", data={"csrf": admin.csrf, "do": "roles", "roles": ["analyst", "planner"]})
    assert account(db, fleet_id, m["login"])["roles"] == ["planner", "analyst"]
    assert admin.post(f"/admin/people/{m['account_id']}", do="roles").status_code == 422  # nothing ticked takes nobody out
    admin.post(f"/admin/people/{m['account_id']}", do="remove")
    trail = admin.client.get("/admin/audit.json").json()
    assert {"roles changed", "person taken out"} <= {r["what"] for r in trail}
    assert not At(served, m["login"]).inside


# ---- passwords ------------------------------------------------------------------------------------------------------------------
def keys_of(db, fleet_id, fleet, login):
    """A token and a job key of somebody, as the programs that hold them would use them."""
    who = visitor_of(db, fleet_id, fleet, login)
    with db.fleet(fleet_id) as c:
        token = tokens.make(c, fleet_id, who.account_id, who.name, "robot", ["read"], 30)
        unit, engine = c.execute("SELECT unit_id, compartment_id FROM compartment").fetchone().values()
        job = cards.make(c, fleet_id, unit, [engine], [], TODAY, False, "", "t")
        device = entries.open_on_device(c, who, job)
    alive = lambda: (tokens.bearer(db, token) is not None, entries.device_owner(db, device, job) is not None)  # noqa: E731
    assert alive() == (True, True)
    return alive


def test_a_new_password_by_a_link_that_works_once_and_ends_everything_else(served, db, fleet, people_of):
    fleet_id, make = people_of
    admin, login = make("admin"), f"technician-{tag(fleet)}"
    before = make("technician")
    alive = keys_of(db, fleet_id, fleet, login)
    number = account(db, fleet_id, login)["account_id"]
    old = re.search(r"/password/[\w-]+", admin.post(f"/admin/people/{number}", do="password").text)[0]
    link = re.search(r"/password/[\w-]+", admin.post(f"/admin/people/{number}", do="password").text)[0]
    stranger = httpx.Client(base_url=served.url, timeout=60)
    assert stranger.get(old).status_code == 404  # a later one replaces it
    assert login in stranger.get(link).text
    assert stranger.post(link, data={"password": "short"}).status_code == 422
    assert before.inside
    assert stranger.post(link, data={"password": "chosen-by-myself"}).status_code == 303
    assert not before.inside
    assert alive() == (False, False)
    assert At(served, login, "chosen-by-myself").inside
    assert not At(served, login).inside
    assert stranger.post(link, data={"password": "and-once-more"}).status_code == 404


@pytest.mark.parametrize("how", ["a new password", "out everywhere", "signed out by an admin", "taken out"])
def test_whatever_acts_for_a_person_ends_with_it(served, db, fleet, people_of, how):
    fleet_id, make = people_of
    login = f"technician-{tag(fleet)}"
    person, admin = make("technician"), make("admin")
    alive = keys_of(db, fleet_id, fleet, login)
    number = account(db, fleet_id, login)["account_id"]
    if how == "a new password":
        person.post("/me/password", old=PASSWORD, new="another-long-one")
    elif how == "out everywhere":
        person.post("/sign-out", everywhere="1")
    else:
        admin.post(f"/admin/people/{number}", do="remove" if how == "taken out" else "sign_out")
    assert alive() == (False, False)
    assert person.inside is (how == "a new password")
