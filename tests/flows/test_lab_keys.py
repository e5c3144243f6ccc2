"""A lab's key goes to its lab and nowhere else: sealed, bound to its address, and sent only to where one may be sent."""

import http.server
import threading

import httpx
import psycopg
import pytest

from conftest import TODAY
from vornet.flows.house import fleets
from vornet.flows.lab import asking, labs
from vornet.io import address
from vornet.io.lab_link import HttpLab, LabTrouble
from vornet.store import database, queue, secrets
from vornet.store.database import StoreError

KEY = "the-lab-s-own-key"


@pytest.fixture
def lab(db, fleet):
    fleet_id = fleets.find(db, fleet)

    def put(**changes):
        given = {"name": "Holm", "way": "pull", "address": "https://holm.example/vornet", "key": "", "usual_days": 5, "depots": [], "by": "A"}
        with db.fleet(fleet_id) as c:
            labs.put(c, fleet_id, **(given | changes))

    def kept():
        with db.fleet(fleet_id) as c:
            return c.execute("SELECT * FROM lab WHERE name = 'Holm'").fetchone()

    return put, kept


# ---- kept sealed, bound to its address ------------------------------------------------------------------------------------
def test_a_key_is_kept_sealed_and_told_nowhere(db, fleet, lab):
    put, kept = lab
    put(key=KEY)
    assert KEY not in str(kept())
    assert secrets.unseal(kept()["key"]) == KEY
    with db.fleet(fleets.find(db, fleet)) as c:
        assert KEY not in str(c.execute("SELECT detail FROM audit").fetchall())


@pytest.mark.parametrize(("changes", "stays"), [
    ({"usual_days": 9}, True), ({"address": "https://holm.example/vornet"}, True), ({"address": "https://elsewhere.example/vornet"}, False),
    ({"address": "https://holm.example/other"}, False), ({"address": "http://holm.example/vornet"}, False),
])  # fmt: skip
def test_another_address_takes_the_key_away(lab, changes, stays):
    put, kept = lab
    put(key=KEY)
    put(**changes)
    assert (secrets.unseal(kept()["key"]) == KEY) is stays
    assert (kept()["key"] == "") is not stays
    put(**changes, key="another-key")
    assert secrets.unseal(kept()["key"]) == "another-key"


def test_a_key_from_before_there_were_seals_is_sealed_by_migrating(db, fleet, lab, location):
    put, kept = lab
    put()
    with psycopg.connect(location.owner_url) as c:
        c.execute("UPDATE lab SET key = %s WHERE name = 'Holm'", (KEY,))
    assert secrets.unseal(KEY) == KEY  # until then it is read as it is
    database.migrate(location)
    assert kept()["key"].startswith(secrets.SEALED)
    assert secrets.unseal(kept()["key"]) == KEY


def test_another_installation_cannot_open_it(monkeypatch):
    sealed = secrets.seal(KEY)
    monkeypatch.setenv("VORNET_SECRET", "Z" * 43 + "=")
    with pytest.raises(StoreError, match="sealed by another installation"):
        secrets.unseal(sealed)
    assert secrets.unseal(secrets.seal(KEY)) == KEY
    monkeypatch.setenv("VORNET_SECRET", "not a key")
    with pytest.raises(StoreError, match="is no key"):
        secrets.seal(KEY)


def test_the_installation_s_key_is_for_its_owner_only():
    secrets.seal(KEY)
    assert secrets.secret_file().stat().st_mode & 0o077 == 0


# ---- only where one may be sent --------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    "found",
    [["127.0.0.1"], ["10.1.2.3"], ["192.168.0.7"], ["172.16.9.9"], ["169.254.169.254"], ["0.0.0.0"], ["::1"], ["fe80::1%eth0"], ["fc00::1"],
     ["::ffff:127.0.0.1"], ["224.0.0.1"], ["100.64.0.1"], ["9.9.9.9", "127.0.0.1"], []],
    ids=lambda f: ",".join(f) or "nobody",
)  # fmt: skip
def test_what_is_not_out_there_is_refused(found):
    with pytest.raises(address.Refused):
        address.outside(found)


def test_what_is_out_there_is_asked_by_the_address_that_was_looked_at(monkeypatch):
    monkeypatch.setattr(address, "resolved", lambda host, port: ["9.9.9.9"])
    asked = []

    def answer(request):
        asked.append((str(request.url), request.headers["Host"], request.extensions["sni_hostname"]))
        return httpx.Response(200, json={"reports": []})

    made = HttpLab("https://holm.example/vornet", KEY, address.CheckedTransport(httpx.MockTransport(answer)))
    assert list(made.reports("")) == []
    assert asked == [("https://9.9.9.9/vornet/reports?after=", "holm.example", "holm.example")]


@pytest.fixture
def neighbour():
    """Something on this machine that nobody outside should be able to make us ask."""
    heard = []

    class Answer(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            heard.append((self.path, self.headers.get("Authorization")))
            if self.path.startswith("/sends-on"):
                self.send_response(302)
                self.send_header("Location", "/secret")
                self.end_headers()
                return
            self.send_response(200 if self.path.startswith("/endless") else 403)
            self.end_headers()
            parts = 400 if self.path.startswith("/endless") else 0
            try:
                self.wfile.write(b"the neighbour's secret")
                for _ in range(parts):
                    self.wfile.write(b"x" * 100_000)
            except OSError:
                pass  # nobody reads on

        def log_message(self, *_):
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Answer)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}", heard
    server.shutdown()


def test_a_neighbour_is_not_asked_unless_the_installation_allows_it(neighbour, monkeypatch):
    base, heard = neighbour
    monkeypatch.delenv("VORNET_PRIVATE_LABS", raising=False)
    with pytest.raises(LabTrouble, match="inside this network"):
        list(HttpLab(base, KEY).reports(""))
    assert heard == []
    monkeypatch.setenv("VORNET_PRIVATE_LABS", "1")
    with pytest.raises(LabTrouble, match="answers 403"):
        list(HttpLab(base, KEY).reports(""))
    assert len(heard) == 1


def test_nothing_of_an_answer_is_repeated_no_redirect_is_followed_no_answer_is_endless(neighbour, monkeypatch):
    base, heard = neighbour
    monkeypatch.setenv("VORNET_PRIVATE_LABS", "1")
    for path, said in (("", "answers 403"), ("/sends-on", "sends on to another address"), ("/endless", "sends more than 20 MB")):
        with pytest.raises(LabTrouble, match=said) as refused:
            list(HttpLab(base + path, KEY).reports(""))
        assert "secret" not in str(refused.value)
    assert "/secret" not in [path for path, _ in heard]


def test_a_lab_that_may_not_be_asked_is_a_trouble_on_its_page(db, fleet, lab, monkeypatch):
    put, kept = lab
    monkeypatch.delenv("VORNET_PRIVATE_LABS", raising=False)
    put(address="http://127.0.0.1:9/vornet", key=KEY)
    assert asking.ask(db, fleets.find(db, fleet), TODAY, queue.put_file)["trouble"] == 1
    assert "inside this network" in kept()["trouble"]
