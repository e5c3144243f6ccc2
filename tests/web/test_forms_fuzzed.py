"""Every form of every page, as the page gives it, with one field at a time turned into what no person types: never a failure of ours."""

import os
import random
from html.parser import HTMLParser

from test_hostile_text import ODD, filled, workshop  # noqa: F401 (a fixture)

from conftest import routes

#: what is put into a field; of these so many a field (VORNET_CASES asks for all)
DICTIONARY = [
    *ODD.values(),
    "-1",
    "1e999",
    "NaN",
    "0x1f",
    "2026-02-30",
    "9999-12-31",
    "\u202e\ufeff",
    "'\"><script>",
    "=1+1",
    "../../etc",
    "x" * 20_000,
    "",
]
EACH = len(DICTIONARY) if os.environ.get("VORNET_CASES") else 1
#: forms that would sign the tester out, or end what the tester may
LEFT_OUT = ("/sign-out", "/me/password", "/me/second-factor", "/me/provider", "/admin/people", "/admin/second-factor", "/fleet")


class Forms(HTMLParser):
    """The forms of a page: (action, method, {name: value}), values as the page gives them."""

    def __init__(self, path, text):
        super().__init__()
        self.path, self.found, self.form, self.choice, self.area = path, [], None, None, None
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        a = dict(attrs)
        if tag == "form":
            self.form = ((a.get("action") or self.path).split("?")[0], (a.get("method") or "get").lower(), {})
            self.found.append(self.form)
        elif (self.form and a.get("name")) or tag == "option":
            fields = self.form[2] if self.form else {}
            if tag == "select":
                self.choice = a["name"]
            elif tag == "option" and self.choice:
                if "selected" in a or self.choice not in fields:
                    fields[self.choice] = a.get("value", "")
            elif tag == "textarea":
                self.area = a["name"]
                fields[self.area] = ""
            elif tag == "button" or a.get("type") in ("checkbox", "radio"):
                fields.setdefault(a.get("name", ""), a.get("value", "on"))
            elif tag == "input" and a.get("type") != "file":
                fields[a["name"]] = a.get("value", "")

    def handle_data(self, data):
        if self.area and self.form:
            self.form[2][self.area] += data

    def handle_endtag(self, tag):
        if tag == "form":
            self.form = None
        self.choice, self.area = (None if tag == "select" else self.choice), (None if tag == "textarea" else self.area)


def forms(client, ids):
    """Every form there is, each once by its action and its fields."""
    seen = {}
    for route in routes(client.app):
        if "GET" in route.methods and not route.path.startswith(("/static", "/api", "/healthy")):
            answer = client.get(filled(route.path, ids), follow_redirects=True)
            if answer.status_code == 200 and "text/html" in answer.headers.get("content-type", ""):
                for action, method, fields in Forms(str(answer.url.path), answer.text).found:
                    seen.setdefault((action, method, frozenset(fields)), fields)
    return seen


def test_no_form_breaks_by_any_field(workshop):  # noqa: F811
    client, csrf, ids = workshop
    chance, broken, sent = random.Random(7), [], 0
    every = {key: fields for key, fields in forms(client, ids).items() if not key[0].startswith(LEFT_OUT)}
    for (action, method, _), fields in every.items():
        for name in sorted(fields.keys() - {"csrf"}):
            for odd in chance.sample(DICTIONARY, EACH):
                given = {**fields, name: odd, **({"csrf": csrf} if "csrf" in fields else {})}
                kind = {"params": given} if method == "get" else {"data": given}
                answer = client.request(method.upper(), action, follow_redirects=False, **kind)
                sent += 1
                if answer.status_code >= 500 or ("<script>" in answer.text.replace('src="', "") and "'\"><script>" in answer.text):
                    broken.append((method, action, name, odd[:30], answer.status_code))
    assert broken == []
    assert len(every) > 40 and sent > 250, (len(every), sent)
    assert client.get("/me").status_code == 200
