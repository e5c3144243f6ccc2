"""What a page can do and the API cannot: each action of a page is in the table of docs/guide/api.md, with its twin, or the reason why it
has none."""

import re

from conftest import TODAY, routes
from vornet.store.database import clone_dir
from vornet.web.app import create_app

#: a person's own: signing in, the account, who may in, settings, the first steps
A_PERSON_S = ("/sign-", "/set-up", "/me/", "/password/", "/invitation/", "/fleet", "/begin", "/admin/people", "/admin/tokens",
              "/admin/invitations", "/admin/second-factor", "/admin/settings")  # fmt: skip


def test_every_action_of_a_page_has_its_twin_or_is_named(db):
    found = {(m, r.path) for r in routes(create_app(db, today=TODAY)) for m in r.methods - {"GET", "HEAD"}}
    actions = {path for _, path in found if not path.startswith(("/api/", *A_PERSON_S))}
    text = (clone_dir() / "docs" / "guide" / "api.md").read_text()
    table = dict(re.findall(r"^\| `(/[^`]*)` \| (.*) \|$", text, re.M))
    assert actions - table.keys() == set(), "actions of pages that the table does not have"
    assert table.keys() - actions == set(), "rows whose action is gone"
    operations = {f"{m} {path}" for m, path in found if path.startswith("/api/")}
    said = {path: twin.strip("`*") for path, twin in table.items()}
    assert {p: t for p, t in said.items() if t.startswith(("POST", "PUT", "DELETE")) and t not in operations} == {}
    assert [p for p, t in said.items() if t not in operations and not t.startswith("none: ")] == []
