"""What the headings of a fleet's own list mean: facts of units and of their compartments under the names people give them, the unit in
the heading, and the compartment in it where a row is a whole unit ("Engine oil", "Gearbox (l)")."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache


@dataclass(frozen=True)
class ListField:
    """One thing a column may hold: its key, its words, how its cells are read, and whether it is a compartment's."""

    key: str
    words: str
    kind: str  # text, volume, meter, interval, days, day, year, kind, fuel, counts
    of_compartment: bool = False


FIELDS: dict[str, ListField] = {
    f.key: f
    for f in (
        ListField("unit", "unit: its name or number", "text"),
        ListField("depot", "depot", "text"),
        ListField("make", "make", "text"),
        ListField("model", "model", "text"),
        ListField("serial", "serial number", "text"),
        ListField("plate", "plate", "text"),
        ListField("year", "year built", "year"),
        ListField("duty", "duty", "text"),
        ListField("meter_unit", "what its meter counts", "counts"),
        ListField("meter", "meter reading", "meter"),
        ListField("meter_on", "day of the meter reading", "day"),
        ListField("note", "note", "text"),
        ListField("compartment", "compartment: its name", "text", True),
        ListField("kind", "kind of compartment", "kind", True),
        ListField("fuel", "fuel", "fuel", True),
        ListField("family", "family: what it is compared with", "text", True),
        ListField("oil", "oil", "text", True),
        ListField("grade", "grade of the oil", "text", True),
        ListField("capacity_l", "refill capacity", "volume", True),
        ListField("capacity_without_filter_l", "capacity without filter", "volume", True),
        ListField("system_volume_l", "whole system's volume", "volume", True),
        ListField("volume_between_marks_l", "volume between the marks", "volume", True),
        ListField("filter", "part number of its oil filter", "text", True),
        ListField("interval", "interval, by meter or calendar", "interval", True),
        ListField("interval_days", "interval by calendar", "days", True),
        ListField("cap", "never longer than", "interval", True),
        ListField("drained_on", "day of the last oil change", "day", True),
        ListField("drained_meter", "meter at the last oil change", "meter", True),
        ListField("drained_in_l", "litres filled at the last oil change", "volume", True),
        ListField("sample_no", "sample number of the last oil change", "text", True),
    )
}

#: headings by what they mean, plain letters; those of other languages are what their users write
_NAMES: dict[str, str] = {
    "unit": "unit|unit no|unit number|unit id|unit name|machine|machine no|machine number|machine id|machine name|equipment|equipment no|"
    "equipment id|equipment number|asset|asset no|asset id|asset number|fleet no|fleet number|fleet id|vehicle|vehicle no|vehicle id|"
    "vehicle number|tractor|tractor no|truck|truck no|bus|bus no|vessel|boat|plant no|plant number|plant id|maschine|maschinen nr|"
    "fahrzeug|fahrzeug nr|wagen|einheit|machine nr|equipo|maquina|vehiculo|vehicule|engin|maskin|kjoretoy|voertuig",
    "depot": "depot|shed|site|location|base|yard|workshop|branch|station|farm|region|standort|betrieb|lieu|agence|ubicacion|sted|vestiging",
    "make": "make|manufacturer|brand|maker|hersteller|marke|marque|marca|fabrikat|merk",
    "model": "model|machine type|vehicle type|unit type|machine model|unit model|modell|modele|modelo|fahrzeugtyp|maschinentyp",
    "serial": "serial|serial no|serial number|s n|sn|vin|chassis|chassis no|chassis number|pin|seriennummer|serien nr|fahrgestellnummer|"
    "numero de serie|no de serie|serienummer|chassisnummer",
    "plate": "plate|plate no|number plate|license plate|licence plate|registration|registration no|registration number|reg|reg no|rego|"
    "kennzeichen|immatriculation|matricula|kenteken|skilt",
    "year": "year|year built|built|model year|year of manufacture|yom|baujahr|annee|ano|arsmodell|bouwjaar",
    "duty": "duty|use|usage|application|work|service type|einsatz|usage type|bruk",
    "meter": "meter|meter reading|hour meter|hourmeter|current meter|present meter|meter now|last meter|last reading|reading|smu|smr|clock|"
    "hours|engine hours|current hours|machine hours|operating hours|run hours|running hours|total hours|hrs|km|kms|kilometres|kilometers|"
    "kilometer|odometer|odo|mileage|current km|total km|km reading|km stand|kilometerstand|betriebsstunden|zahlerstand|stunden|heures|"
    "horas|horometro|kilometrage|kilometraje|driftstimer|timer|draaiuren",
    "meter_on": "meter date|reading date|date of reading|date read|read on|meter read on|as of|hours date|meter as of|reading on|ablesedatum|"
    "abgelesen am|stand vom",
    "meter_unit": "meter unit|meter counts|counts|meter type|h km|hours or km|km or hours|unit of meter|uom",
    "note": "note|notes|remark|remarks|comment|comments|bemerkung|bemerkungen|remarques|notas|merknad|opmerking",
    "compartment": "compartment|component|aggregate|sump|komponente|aggregat|composant|componente|reservoir",
    "kind": "kind|compartment type|component type|kind of compartment|compartment kind",
    "fuel": "fuel|fuel type|kraftstoff|carburant|combustible|drivstoff|brandstof",
    "family": "family|engine family|engine model|engine type|component model|motortyp|component family",
    "oil": "oil|oil type|oil name|lubricant|lube|oil used|oil brand|fluid|oil product|recommended oil|specified oil|oil spec|olsorte|ol|"
    "huile|aceite|olje|olie|schmierstoff|lubrifiant",
    "grade": "grade|viscosity|viscosity grade|oil grade|sae|sae grade|viskositat|viscosite|viscosidad",
    "capacity_l": "capacity|oil capacity|refill|refill capacity|refill volume|fill|fill volume|fill quantity|oil volume|sump capacity|volume|"
    "litres|liters|litre|liter|quantity|qty|oil qty|oil quantity|capacity with filter|capacity incl filter|fullmenge|olmenge|ol menge|"
    "contenance|capacite|capacidad|mengde|inhoud|service fill",
    "capacity_without_filter_l": "capacity without filter|without filter|capacity w o filter|capacity excl filter",
    "system_volume_l": "system volume|total volume|system capacity|total capacity|whole system|dry fill|systemvolumen|gesamtvolumen",
    "volume_between_marks_l": "volume between marks|between marks|between the marks|min to max|min max|marks",
    "filter": "filter|oil filter|filter no|filter number|filter part|filter part no|filter part number|oil filter no|olfilter",
    "interval": "interval|drain interval|change interval|oil interval|oil change interval|service interval|oil drain interval|change every|"
    "oil change every|drain every|every|wechselintervall|olwechselintervall|intervall|intervalle|intervalle de vidange|intervalo|"
    "verversingsinterval",
    "interval_days": "calendar interval|interval days|interval months|calendar limit|time interval|max age|months",
    "cap": "cap|maximum interval|max interval|longest interval|never beyond|not beyond",
    "drained_on": "last change|last oil change|last drain|last drained|last oil change date|last change date|date of last change|"
    "date of last oil change|date last changed|last changed|last changed on|oil changed on|drained on|drain date|oil change date|change date|"
    "changed on|date changed|last service date|letzter olwechsel|olwechsel am|derniere vidange|ultimo cambio|siste oljeskift",
    "drained_meter": "last change hours|hours at last change|meter at last change|last change meter|last oil change hours|"
    "hours at last oil change|meter at last oil change|last oil change meter|last drain hours|last drain meter|changed at|last changed at|"
    "last change at|last oil change at|last change km|last oil change km|km at last change|km at last oil change|hours at change|"
    "km at change|change hours|change km|drained at|drain hours|drain meter|last service hours|last service km|olwechsel bei",
    "drained_in_l": "litres filled|filled|litres in|volume in|oil in",
    "sample_no": "sample|sample no|sample number|last sample|last sample no|bottle|bottle no",
}
#: headings that name the unit or the day only where nothing else does
_WEAK = {"name": "unit", "id": "unit", "no": "unit", "nr": "unit", "number": "unit", "code": "unit", "date": "meter_on", "type": "model",
         "part": "compartment", "system": "compartment", "position": "compartment", "typ": "model"}  # fmt: skip
NAMES: dict[str, str] = {name: key for key, names in _NAMES.items() for name in names.split("|")}

#: units as people write them behind a heading or a figure, to how they are kept here
UNITS: dict[str, str] = {
    **dict.fromkeys(("l", "lt", "ltr", "ltrs", "litre", "litres", "liter", "liters"), "L"),
    **dict.fromkeys(("gal", "gallon", "gallons", "us gal", "gal us", "us gallons"), "gal"),
    **dict.fromkeys(("imp gal", "imperial gallons", "gal imp", "uk gal", "gal uk"), "imp gal"),
    **dict.fromkeys(("qt", "qts", "quart", "quarts", "us qt"), "qt"), **dict.fromkeys(("ml",), "ml"),
    **dict.fromkeys(("h", "hr", "hrs", "hour", "hours", "std", "stunden", "bh"), "h"),
    **dict.fromkeys(("km", "kms", "kilometre", "kilometres", "kilometer", "kilometers"), "km"),
    **dict.fromkeys(("1000 km", "x1000 km", "x 1000 km", "000 km", "tkm", "thousand km", "tsd km"), "1000 km"),
    **dict.fromkeys(("mi", "mile", "miles"), "mi"), **dict.fromkeys(("1000 mi", "000 mi", "x1000 mi", "x 1000 mi", "1000 miles"), "1000 mi"),
    **dict.fromkeys(("d", "day", "days", "tage"), "days"), **dict.fromkeys(("wk", "week", "weeks"), "weeks"),
    **dict.fromkeys(("mo", "mos", "mth", "mths", "month", "months", "monate", "mois"), "months"),
    **dict.fromkeys(("y", "yr", "yrs", "year", "years", "jahre"), "years"),
}  # fmt: skip
VOLUME_UNITS = ("L", "gal", "imp gal", "qt", "ml")
METER_UNITS = ("h", "km", "mi", "1000 km", "1000 mi")
TIME_UNITS = ("days", "weeks", "months", "years")
#: which units a column's figures may be in, by how its cells are read
UNITS_OF: dict[str, tuple[str, ...]] = {
    "volume": VOLUME_UNITS, "meter": METER_UNITS, "days": TIME_UNITS, "interval": METER_UNITS + TIME_UNITS,
}  # fmt: skip
#: meters whose heading says by itself what it counts
_COUNTS_H = re.compile(r"\b(hours?|hrs|hourmeter|smu|smr|betriebsstunden|stunden|heures|horas|horometro|driftstimer|timer|draaiuren)\b")
_COUNTS_KM = re.compile(r"\b(kms?|kilometres?|kilometers?|kilometerstand|kilometrage|kilometraje)\b")

_KINDS: tuple[tuple[str, str], ...] = (
    ("engine", r"\b(engine|engines|genset|moteur|dieselmotor)\b"),
    ("gearbox", r"\b(gearbox|gear box|transmission|getriebe|transfer case|transfer box|boite|girkasse)\b"),
    ("primary", r"\bprimary\b"),
    ("final_drive", r"\b(final drives?|finaldrives?|planetary|hub|hubs|wheel hubs?|endantrieb)\b"),
    ("differential", r"\b(differential|diff|diffs)\b"),
    ("axle", r"\b(axle|axles|achse|vorderachse|hinterachse|aksel)\b"),
    ("hydraulics", r"\b(hydraulics?|hydraulic system|hydr|hyd|hydraulik|hydraulique|hydraulikk)\b"),
    ("compressor", r"\b(compressor|kompressor|compresseur)\b"),
)
_ONLY_MOTOR = re.compile(r"(?:(?:main|aux|auxiliary|front|rear|left|right|port|starboard|diesel|no|\d+) )*motor(?: (?:left|right|\d+))?")
_SIDE = r"front|rear|left|right|lh|rh|centre|center|middle|port|starboard|fwd|aft|main|aux|auxiliary|\d+"
_ALL_NAME = re.compile(rf"(?:(?:{_SIDE}) )*(?:{'|'.join(p.strip(chr(92) + 'b').strip('()') for _, p in _KINDS)}|motor)(?: (?:{_SIDE}))*")


@lru_cache(maxsize=20_000)
def plain(text: str) -> str:
    """Letters as one compares them: lower case, no accents, ß as ss, everything else a blank.

    >>> plain("Öl-Füllmenge [l]"), plain("  Serial No. ")
    ('ol fullmenge l', 'serial no')
    """
    letters = "".join(c for c in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(c))
    return " ".join(re.sub(r"[^a-z0-9<>]+", " ", letters.replace("ø", "o").replace("æ", "ae")).split())


def kind_of(name: str) -> str | None:
    """The kind a compartment's name says, None where it says none, or two.

    >>> kind_of("Rear axle"), kind_of("Motor"), kind_of("Hydraulic motor"), kind_of("Axle differential"), kind_of("Winch")
    ('axle', 'engine', None, None, None)
    """
    words = plain(name)
    if _ONLY_MOTOR.fullmatch(words):
        return "engine"
    found = [kind for kind, pattern in _KINDS if re.search(pattern, words)]
    return found[0] if len(found) == 1 and not re.search(r"\bmotor\b", words) else None


@dataclass(frozen=True)
class Column:
    """What a column is: a field's key ('' is left out), the unit its figures are in, the compartment its heading names."""

    key: str
    unit: str = ""
    compartment: str = ""

    def as_dict(self) -> dict[str, str]:
        return {"key": self.key, "unit": self.unit, "compartment": self.compartment}


Said = Mapping[str, Column]


def said_key(text: str) -> str:
    """The form of a heading under which what a person said is remembered."""
    return " ".join(text.casefold().split())[:160]


@lru_cache(maxsize=20_000)
def _cut(heading: str) -> tuple[str, str]:
    """A heading's plain name and the unit behind it: 'Capacity (l)', 'Interval in hours', 'Sump, qt'."""
    bracket = re.search(r"[(\[{]\s*([^)\]}]*?)\s*[)\]}]\s*$", heading)
    if bracket:
        inside = UNITS.get(plain(bracket[1]))
        if inside:
            return plain(heading[: bracket.start()]), inside
    words = plain(heading)
    if words in NAMES or words in _WEAK:
        return words, ""
    parts = words.split()
    for size in (3, 2, 1):
        if len(parts) > size and " ".join(parts[-size:]) in UNITS:
            rest = parts[:-size]
            if len(rest) > 1 and rest[-1] in ("in", "every"):
                rest = rest[:-1] if rest[-1] == "in" else rest
            return " ".join(rest), UNITS[" ".join(parts[-size:])]
    return words, ""


def meaning_of(heading: str) -> Column | None:
    """What a heading says by itself, None where that is not known.

    >>> meaning_of("Engine oil capacity (gal)")
    Column(key='capacity_l', unit='gal', compartment='Engine')
    >>> meaning_of("Betriebsstunden"), meaning_of("Colour")
    (Column(key='meter', unit='h', compartment=''), None)
    """
    whole = plain(heading)
    if whole in NAMES:
        return _fitted(NAMES[whole], "", "", whole)
    name, unit = _cut(heading)
    if name in NAMES:
        return _fitted(NAMES[name], unit, "", name)
    return _of_compartment(heading, name, unit)


def _of_compartment(heading: str, name: str, unit: str) -> Column | None:
    """A heading that names its compartment: before what it is, or behind it."""
    words = name.split()
    for n in range(min(3, len(words)), 0, -1):
        for named, rest in ((words[:n], words[n:]), (words[-n:], words[:-n])):
            called = " ".join(named)
            if kind_of(called) is None or not _ALL_NAME.fullmatch(called):
                continue
            key = NAMES.get(" ".join(rest)) if rest else ("capacity_l" if unit in VOLUME_UNITS else None)
            if key is None or not FIELDS[key].of_compartment or key in ("compartment", "kind"):
                continue
            return _fitted(key, unit, _as_written(heading, named), " ".join(rest))
    return None


def _as_written(heading: str, named: Sequence[str]) -> str:
    """A compartment's name in the letters of the heading, first one a capital."""
    found = re.search(r"[\W_]+".join(map(re.escape, named)), heading, re.IGNORECASE)
    text = " ".join(re.split(r"[\W_]+", found[0])) if found else " ".join(named)
    text = text.lower() if text.isupper() and len(text) > 3 else text
    return text[:1].upper() + text[1:]


def _fitted(key: str, unit: str, compartment: str, words: str) -> Column | None:
    """A column with its unit where that fits: litres behind 'oil' are its capacity, months behind 'interval' its calendar."""
    if key == "oil" and unit in VOLUME_UNITS:
        key = "capacity_l"
    if key == "drained_on" and unit in METER_UNITS:
        key = "drained_meter"
    if key in ("meter", "drained_meter") and not unit:
        unit = "h" if _COUNTS_H.search(words) else "km" if _COUNTS_KM.search(words) else ""
    if key == "interval_days" and not unit:
        unit = "months" if "month" in words else "days" if "day" in words else ""
    if key == "capacity_l" and not unit and re.search(r"\blit(re|er)s?\b", words):
        unit = "L"
    if unit and unit not in UNITS_OF.get(FIELDS[key].kind, ()):
        return None
    return Column(key, unit, compartment)


def recognised(names: Sequence[str], said: Said | None = None) -> int:
    """How many of a row's cells are headings; 0 unless more than one is."""
    known = 0
    for raw in names[:400]:
        text = str(raw).strip()
        if not text or len(text) > 160:
            continue
        known += said_key(text) in (said or {}) or meaning_of(text) is not None or plain(text) in _WEAK
    return known if known > 1 else 0


def unique(names: Sequence[str]) -> list[str]:
    """Headings told apart: blank ones by their letter, the second of a name by its number.

    >>> unique(["Oil", "", "Oil"])
    ['Oil', 'column B', 'Oil (2)']
    """
    out: list[str] = []
    for i, raw in enumerate(names):
        text = " ".join(str(raw).split())[:160] or f"column {letter(i)}"
        n, name = 1, text
        while name in out:
            n += 1
            name = f"{text} ({n})"
        out.append(name)
    return out


def letter(column: int) -> str:
    """A column's letter as spreadsheets write it, from 0.

    >>> letter(0), letter(25), letter(26)
    ('A', 'Z', 'AA')
    """
    text = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        text = chr(65 + rest) + text
    return text


def columns_of(names: Sequence[str], above: Sequence[str], said: Said) -> dict[int, Column]:
    """What each column is, by position; those not known are not there. ``above``: the row over the headings, whose names of
    compartments reach over the columns to the right of them. Twice the same thing: the first counts."""
    known: dict[int, Column] = {}
    over = _over(names, above)
    for i, name in enumerate(names):
        if (meant := said.get(said_key(name))) is not None:
            known[i] = meant
        elif (meant := meaning_of(re.sub(r" \(\d+\)$", "", name))) is not None:
            if i in over and FIELDS[meant.key].of_compartment and not meant.compartment:
                meant = Column(meant.key, meant.unit, over[i])
            known[i] = meant
    has = {c.key for c in known.values()}
    for i, name in enumerate(names):
        weak = _WEAK.get(plain(name))
        if i not in known and weak and weak not in has and (weak != "model" or "compartment" not in has):
            known[i] = Column(weak)
            has.add(weak)
    taken: set[tuple[str, str]] = set()
    for i in sorted(known):
        place = (known[i].key, known[i].unit if known[i].key == "meter" else plain(known[i].compartment))
        if known[i].key and place in taken and said_key(names[i]) not in said:
            del known[i]
        else:
            taken.add(place)
    return known


def _over(names: Sequence[str], above: Sequence[str]) -> dict[int, str]:
    out: dict[int, str] = {}
    current = ""
    for i in range(len(names)):
        text = str(above[i]).strip() if i < len(above) else ""
        if text:
            current = text if kind_of(text) else ""
        if current:
            out[i] = " ".join(current.split())
    return out
