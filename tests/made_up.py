"""A language that nobody speaks: English letter for letter in Greek ones, templates and tables only.

What ``core`` or the store would hand over as English comes through in ASCII letters, and is caught.
"""

import re

from vornet.words.en import ENGLISH
from vornet.words.say import Language, parsed

LETTERS = str.maketrans(
    "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ", "αβψδεφγηιξκλμνοπϟρστθωϛχυζΑΒΨΔΕΦΓΗΙΞΚΛΜΝΟΠϞΡΣΤΘΩϚΧΥΖ"
)  # fmt: skip
#: what people called their things: not for a language to change
PEOPLE_S = ("unit", "compartment", "no", "oil", "oils", "usual", "approval")


def _template(text):
    out = ""
    for literal, name, way in parsed(text):
        out += literal.translate(LETTERS)
        if name is not None:
            if way.startswith("or ") or "|" in way:
                way = (way[:3] if way.startswith("or ") else "") + way.removeprefix("or ").translate(LETTERS)
            out += "{" + name + (f":{way}" if way else "") + "}"
    return out


MADE_UP = Language(
    sentences={kind: _template(text) for kind, text in ENGLISH.sentences.items()},
    tables={name: {key: word.translate(LETTERS) for key, word in table.items()} for name, table in ENGLISH.tables.items()},
    marks={name: mark.translate(LETTERS) for name, mark in ENGLISH.marks.items()},
    plural=lambda n: 0 if n == 1 else 1,
    figure=lambda text: text.replace(",", "·").replace(".", ","),
)


def without_names(fact):
    """A fact with Greek names in place of those that people gave."""
    from dataclasses import replace

    def greek(f):
        keys = {
            k: (tuple("Ω" for _ in v) if isinstance(v, tuple) else v and "Ω")
            if k in PEOPLE_S and not (k == "unit" and f.kind == "slip_unit")
            else v
            for k, v in f.keys.items()
        }
        return replace(f, keys=keys)

    return fact.changed(greek)


def english_in(sentence):
    """The ASCII letters of a sentence, '' when there are none."""
    return "".join(re.findall(r"[A-Za-z]+", sentence))
