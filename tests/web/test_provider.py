"""Signing in by a provider that vouches (OpenID Connect), against a stand-in: joined by whoever is signed in, taken with an invitation,
and refused whatever is forged, old, or somebody else's."""

import re
import socket
import time

import pytest
from fastapi.testclient import TestClient
from joserfc.jwk import OctKey
from provider_stand_in import CLIENT, SECRET, StandIn

from conftest import TODAY
from vornet.core.errors import InputError
from vornet.flows.house import fleets, identities, installation, links, people, sessions
from vornet.web.app import create_app

PASSWORD = "right-and-long"


@pytest.fixture(scope="module")
def there():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    made = StandIn(port)
    yield made
    made.stop()


@pytest.fixture
def provider(there, monkeypatch):
    for name, value in {"ISSUER": there.issuer, "CLIENT": CLIENT, "SECRET": SECRET, "NAME": "Harbour sign-in"}.items():
        monkeypatch.setenv(f"VORNET_OIDC_{name}", value)
    there.person, there.twist, there.sign_with, there.algorithm = {"sub": f"s{time.time_ns()}", "name": "Vera Vouched"}, {}, None, "RS256"
    return there


@pytest.fixture
def client(db):
    return TestClient(create_app(db, today=TODAY), follow_redirects=False)


@pytest.fixture
def person(db, fleet):
    login = "v-" + re.sub(r"\W", "", fleet.lower())
    people.add(db, fleet, login, "Vera", PASSWORD, "planner")
    return login


def csrf_of(client):
    return re.search(r'name="csrf" value="([^"]+)"', client.get("/me").text)[1]


def joined(client, provider, person):
    """The person signs in by password and joins the provider's sign-in."""
    client.post("/sign-in", data={"login": person, "password": PASSWORD})
    page = client.post("/me/provider", data={"csrf": csrf_of(client), "do": "join", "password": PASSWORD})
    address = re.search(r'class="button primary" href="([^"]+)"', page.text)[1].replace("&amp;", "&")
    return client.get(provider.back_from(address, client))


def by_provider(client, provider, path="/sign-in/with?to=/plan"):
    sent = client.get(path)
    assert sent.status_code == 303 and sent.headers["location"].startswith(provider.issuer), sent.text
    return client.get(provider.back_from(sent.headers["location"], client))


def test_who_has_joined_signs_in_by_the_provider(db, client, provider, person):
    assert "Sign in with Harbour sign-in" in client.get("/sign-in").text
    stranger = by_provider(client, provider)
    assert stranger.status_code == 422 and "nobody here signs in that way yet" in stranger.text.lower()
    assert joined(client, provider, person).headers["location"] == "/me"
    fresh = TestClient(client.app, follow_redirects=False)
    assert by_provider(fresh, provider).headers["location"] == "/plan"
    who = sessions.visitor(db, fresh.cookies["vornet_session"])
    assert (who.login, who.second) == (person, False)
    assert "vornet_way" not in fresh.cookies  # the note is used up
    assert fresh.post("/me/provider", data={"csrf": csrf_of(fresh), "do": "part"}).status_code == 303
    assert by_provider(TestClient(client.app, follow_redirects=False), provider).status_code == 422


def test_more_than_a_password_there_is_a_second_factor_here(db, client, provider, person, fleet):
    joined(client, provider, person)
    with db.as_owner() as c:
        c.execute("UPDATE fleet SET second_factor = ARRAY['planner'] WHERE fleet_id = %s", (fleets.find(db, fleet),))
    for ways, strong in (([], False), (["pwd"], False), (["otp"], False), (["hwk"], False), (["pwd", "otp"], True), (["mfa"], True)):
        provider.twist, fresh = {"amr": ways}, TestClient(client.app, follow_redirects=False)
        by_provider(fresh, provider)
        assert (fresh.get("/plan").status_code == 200) is strong, ways


def test_an_invitation_is_taken_with_the_provider_and_no_password_is_made(db, client, provider, fleet, person):
    boss = sessions.visitor(db, sessions.sign_in(db, person, PASSWORD).token)
    with db.fleet(boss.fleet_id) as c:
        token = links.invite(c, boss, "Vera Vouched", ["viewer"])
    assert "Join with Harbour sign-in" in client.get(f"/invitation/{token}").text
    assert by_provider(client, provider, f"/sign-in/with?invitation={token}").status_code == 303
    who = sessions.visitor(db, client.cookies["vornet_session"])
    assert (who.name, who.roles, who.fleet) == ("Vera Vouched", ("viewer",), fleet)
    assert who.login.startswith("vera.vouched")
    for password in ("", " ", PASSWORD):
        with pytest.raises(InputError, match="do not fit"):
            sessions.sign_in(db, who.login, password)
    parted = client.post("/me/provider", data={"csrf": csrf_of(client), "do": "part"})
    assert "the only way you have" in parted.text


FORGED = {
    "another issuer": {"iss": "https://elsewhere.example"}, "for another": {"aud": "another-client"}, "ended": {"exp": 1},
    "not of this asking": {"nonce": "replayed"}, "of nobody": {"sub": None}, "for others too": {"aud": [CLIENT, "b"], "azp": "b"},
}  # fmt: skip


@pytest.mark.parametrize("claims", FORGED.values(), ids=FORGED)
def test_a_token_that_does_not_fit_vouches_for_nobody(client, provider, person, claims):
    joined(client, provider, person)
    provider.twist = claims
    answer = by_provider(TestClient(client.app, follow_redirects=False), provider)
    assert answer.status_code == 422 and "did not vouch" in answer.text
    assert "vornet_session=" not in answer.headers.get("set-cookie", "")


def test_a_token_signed_by_another_or_with_a_shared_secret_vouches_for_nobody(client, provider, person):
    joined(client, provider, person)
    provider.sign_with = provider.other_key
    assert by_provider(TestClient(client.app, follow_redirects=False), provider).status_code == 422
    provider.sign_with, provider.algorithm = OctKey.import_key(SECRET * 4), "HS256"
    assert by_provider(TestClient(client.app, follow_redirects=False), provider).status_code == 422


def test_who_did_not_ask_does_not_come_back(client, provider, person):
    """Somebody else's way back, in this browser: the state is not ours, or there is no note at all."""
    joined(client, provider, person)
    theirs = TestClient(client.app, follow_redirects=False)
    sent = theirs.get("/sign-in/with")
    way = provider.back_from(sent.headers["location"], theirs)
    victim = TestClient(client.app, follow_redirects=False)
    assert "did not ask" in victim.get(way).text
    victim.get("/sign-in/with")
    assert "did not vouch" in victim.get(way).text  # a note, of another asking
    assert theirs.get(way).status_code == 422 or theirs.cookies.get("vornet_session")
    assert theirs.get(way).status_code == 422  # a code is good once


def test_joining_is_for_whoever_began_it(db, client, provider, person, fleet):
    other = person + "-2"
    people.add(db, fleet, other, "Other", PASSWORD, "viewer")
    client.post("/sign-in", data={"login": person, "password": PASSWORD})
    assert "does not fit" in client.post("/me/provider", data={"csrf": csrf_of(client), "do": "join", "password": "x"}).text
    page = client.post("/me/provider", data={"csrf": csrf_of(client), "do": "join", "password": PASSWORD})
    address = re.search(r'class="button primary" href="([^"]+)"', page.text)[1].replace("&amp;", "&")
    way = provider.back_from(address, client)
    client.post("/sign-in", data={"login": other, "password": PASSWORD})  # somebody else sits down meanwhile
    assert "somebody else is signed in" in client.get(way).text.lower()
    assert joined(client, provider, person).status_code == 303
    assert "is joined already" in joined(client, provider, other).text.lower()


def test_a_note_that_is_old_or_made_up_is_none(client, provider, monkeypatch):
    sent = client.get("/sign-in/with")
    way = provider.back_from(sent.headers["location"], client)
    real, note = time.time, client.cookies["vornet_way"]
    monkeypatch.setattr(identities.time, "time", lambda: real() + identities.PATIENCE_S + 5)
    assert "took too long" in TestClient(client.app).get(way, headers={"Cookie": f"vornet_way={note}"}).text
    client.cookies.set("vornet_way", "sealed:made-up")
    assert "did not ask" in client.get(way).text


def test_a_provider_that_is_away_or_something_else_is_a_sentence(client, provider, monkeypatch):
    monkeypatch.setenv("VORNET_OIDC_ISSUER", "http://127.0.0.1:9")
    assert "does not answer" in client.get("/sign-in/with").text
    monkeypatch.setenv("VORNET_OIDC_ISSUER", "http://oil.example.net")
    with pytest.raises(InputError, match="https://"):
        installation.check()
    monkeypatch.delenv("VORNET_OIDC_ISSUER")
    assert "no provider" in client.get("/sign-in/with").text.lower()
    assert "Harbour" not in client.get("/sign-in").text
