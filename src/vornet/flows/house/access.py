"""Who may do what: one table, least right by default. Pages, API and menus all read it here."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

ROLES = ("technician", "planner", "analyst", "manager", "admin", "viewer")
#: what each role is for, as people read it
ROLE_WORDS = {
    "technician": "does the drain, pulls the sample, notes what was seen",
    "planner": "keeps the register and the plan, approves intervals",
    "analyst": "clears the lab's results, signs verdicts, keeps oils and limits",
    "manager": "sees what was decided and why, approves intervals",
    "admin": "lets people in and out, keeps settings and tokens",
    "viewer": "looks, and changes nothing",
}


@dataclass(frozen=True)
class Right:
    """One thing a person may do, in words, and the roles that may. ``scope``: the token scope that carries it."""

    key: str
    words: str
    roles: frozenset[str]
    scope: str | None = None


def _right(key: str, words: str, roles: str, scope: str | None = None) -> Right:
    return Right(key, words, frozenset(roles.split()), scope)


RIGHTS: dict[str, Right] = {
    r.key: r
    for r in (
        _right("see", "see the Board, units, compartments, oils and plans",
               "technician planner analyst manager admin viewer", "read"),
        _right("own_account", "change one's own password, sessions and tokens",
               "technician planner analyst manager admin viewer"),
        _right("see_intervals", "see the desk of interval decisions", "planner analyst manager viewer", "read"),
        _right("see_lab", "see the lab's files and what is held", "planner analyst manager", "read"),
        _right("export", "take the register and judgements out as files", "planner analyst manager admin", "read"),
        _right("log_work", "log drains, top-ups, readings, level checks, services and events", "technician planner", "work"),
        _right("see_bottles", "see bottles and parcels", "technician planner analyst manager viewer", "read"),
        _right("ship_bottles", "register bottles, pack and send parcels", "technician planner analyst", "work"),
        _right("keep_labs", "set up labs and how their files come in", "planner analyst admin", "import"),
        _right("take_files", "take lab files in", "planner analyst", "import"),
        _right("settle_holds", "release, correct or reject held samples", "analyst", "judge"),
        _right("see_review", "see samples that wait for a verdict, open actions and how often causes were right",
               "planner analyst manager viewer", "read"),
        _right("sign_verdict", "sign verdicts and open actions", "analyst"),
        _right("hear_stop", "say that a stop was heard, for the units one answers for", "technician planner manager"),
        _right("record_finding", "record what the workshop found, which closes actions", "technician planner analyst", "work"),
        _right("edit_limits", "change limits", "analyst", "judge"),
        _right("weigh_signs", "sign how strongly findings make a sign speak", "analyst"),
        _right("approve_interval", "approve an interval", "planner manager", "decide"),
        _right("edit_policy", "set the rules by which intervals move", "planner manager", "decide"),
        _right("edit_prices", "set what oil, work and standing still cost", "planner manager", "decide"),
        _right("edit_register", "change units, compartments, templates and service plans", "planner", "register"),
        _right("edit_oils", "change oils and their batches", "planner analyst", "register"),
        _right("keep_webhooks", "have other programs told what happened", "planner admin", "register"),
        _right("edit_settings", "set the fleet's units of measure and schools of practice", "planner admin"),
        _right("plan_weeks", "set crew hours and units' days, work plans out, move and fix visits, make their cards", "planner", "plan"),
        _right("keep_stock", "count, receive and use stock", "technician planner", "work"),
        _right("see_audit", "read the audit trail", "manager admin"),
        _right("manage_people", "let people in, set roles, end sessions and tokens", "admin"),
    )
}  # fmt: skip
#: what a token may be made for, in words
SCOPES = {
    "read": "read registers, judgements, intervals and due lists",
    "work": "log meter readings and work done",
    "import": "take lab results in",
    "judge": "settle held samples, change limits",
    "register": "load and change the register",
    "decide": "approve intervals, set rules and prices",
    "plan": "set crew hours, plan and move visits",
}


def allowed(roles: Iterable[str], right: str, scopes: tuple[str, ...] | None = None) -> bool:
    """Whether somebody with these roles may; a token (``scopes`` given) only within its scopes as well."""
    found = RIGHTS[right]
    return not found.roles.isdisjoint(roles) and (scopes is None or found.scope in scopes)


def who_may(right: str) -> str:
    """The roles that may, as a sentence says them: 'planners and analysts'."""
    names = [f"{role}s" for role in ROLES if role in RIGHTS[right].roles]
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1]
