"""The forms of a page of ours, read off its HTML: their fields with their places in the text, and what a browser would send of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from html.parser import HTMLParser
from urllib.parse import urlsplit


@dataclass
class Tag:
    """A field's tag: where it stands in the page, its attributes; of an option or a textarea what is inside it, of an option its select."""

    kind: str
    start: int
    end: int
    attrs: dict[str, str | None]
    inside: str = ""
    inside_end: int = 0
    select: str = ""
    label: str = ""

    @property
    def name(self) -> str:
        return self.select or self.attrs.get("name") or ""

    @property
    def type(self) -> str:
        return self.attrs.get("type") or ""

    @property
    def value(self) -> str:
        """What it would send: a tick without a value says on, an option without one its text."""
        if self.kind == "option":
            return self.inside.strip() if "value" not in self.attrs else self.attrs["value"] or ""
        if self.kind == "textarea":
            return self.inside
        return self.attrs.get("value") or ("on" if self.type in ("checkbox", "radio") and "value" not in self.attrs else "")


@dataclass
class PageForm:
    """One form: the path it is sent to ('' the page's own), its attributes, its fields in order."""

    action: str
    attrs: dict[str, str | None]
    tags: list[Tag] = field(default_factory=list)

    def names(self) -> set[str]:
        return {t.name for t in self.tags} - {""}

    def values(self) -> dict[str, str]:
        """What a browser would send back untouched, by name; files are left out."""
        out: dict[str, str] = {}
        for tag in self.tags:
            if not tag.name or tag.kind == "select" or tag.type == "file":
                continue
            if tag.kind == "option":
                if "selected" in tag.attrs or tag.name not in out:
                    out[tag.name] = tag.value
            elif tag.type not in ("checkbox", "radio") or "checked" in tag.attrs:
                out[tag.name] = tag.value
        return out


class _Reader(HTMLParser):
    def __init__(self, page: str) -> None:
        super().__init__(convert_charrefs=True)
        self.forms = list[PageForm]()
        self._starts = [0]
        for line in page.split("\n"):
            self._starts.append(self._starts[-1] + len(line) + 1)
        self._form: PageForm | None = None
        self._select, self._label, self._open = "", "", False
        self.feed(page)

    def _at(self) -> int:
        line, column = self.getpos()
        return self._starts[line - 1] + column

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        a, start = dict(attrs), self._at()
        if tag == "form":
            self._form = PageForm(urlsplit(a.get("action") or "").path, a)
            self.forms.append(self._form)
        elif tag == "label":
            self._label = ""
        elif self._form is not None and tag in ("input", "option", "textarea", "select"):
            if tag == "select":
                self._select = a.get("name") or ""
            end = start + len(self.get_starttag_text() or "")
            self._form.tags.append(Tag(tag, start, end, a, select=self._select if tag == "option" else "", label=self._label.strip()))
            self._open = tag in ("option", "textarea")

    def handle_data(self, data: str) -> None:
        if self._open and self._form is not None:
            self._form.tags[-1].inside += data
        else:
            self._label += data

    def handle_endtag(self, tag: str) -> None:
        if tag in ("textarea", "option") and self._form is not None and self._form.tags:
            self._form.tags[-1].inside_end = self._at()
            self._open = False
        elif tag == "select":
            self._select, self._open = "", False
        elif tag == "form":
            self._form, self._open = None, False


def forms_of(page: str) -> list[PageForm]:
    """Every form of a page, in order."""
    return _Reader(page).forms
