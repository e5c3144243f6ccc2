"""A measurand is appended as its module says: one line more, and a database of before is opened, widened and judged as it was."""

import json
import os
import subprocess
import sys

from conftest import HEADER, TODAY, fresh_database, healthy_rows, small_register
from vornet.flows.house import people
from vornet.flows.judge import evaluate, judgements
from vornet.flows.lab import results
from vornet.flows.register import register
from vornet.store.database import Database, clone_dir

LINE = "cd|Cadmium|mg/kg|wear|1\n"
#: another Python, in which the module of measurands has one line more
LATER = f"""
import json, sys, types, warnings
from datetime import date
from pathlib import Path
import vornet.core
path = Path(vornet.core.__file__).parent / "measurands.py"
last = "p14|Particles ≥ 14 µm|/mL|particles|0\\n"
text = path.read_text()
assert last in text
module = types.ModuleType("vornet.core.measurands")
module.__file__ = str(path)
sys.modules["vornet.core.measurands"] = vornet.core.measurands = module
exec(compile(text.replace(last, last + {LINE!r}), str(path), "exec"), module.__dict__)
from vornet.flows.judge import evaluate, judgements
from vornet.flows.lab import results
from vornet.store.database import Database, locate, migrate
migrate(locate())
db, fleet, today = Database(locate()), sys.argv[1], date(2026, 1, 15)
evaluate.evaluate(db, fleet, today, afresh=True)
said = judgements.judgements(db, fleet)
file = "sample_no,unit,compartment,sampled_on,meter,lab,fe,Cadmium\\nCD1,MV Test,engine,2026-01-10,3850,Lab A,20,3.5\\n"
report = results.load(db, file.encode(), fleet=fleet, name="cd.csv", by="t")
evaluate.evaluate(db, fleet, today)
warnings.simplefilter("ignore")
from fastapi.testclient import TestClient
from vornet.web.app import create_app
with TestClient(create_app(db, today=today)) as client:
    client.post("/sign-in", data={{"login": "wider", "password": "right-and-long"}})
    pages = {{p: client.get(p).status_code for p in (
        "/", "/review", "/compartments/1", "/compartments/1?m=cd", "/limits", "/limits/precision", "/library/oils", "/library/oils/1",
        "/library/register.json")}}
    shown = "Cadmium" in client.get("/compartments/1?m=cd").text
with db.fleet(1) as c:
    kept = c.execute("SELECT values[41] AS cd, cardinality(values) AS n FROM sample WHERE sample_no = 'CD1'").fetchone()
db.close()
print(json.dumps({{"said": said, "new": report.new, "pages": pages, "kept": kept, "shown": shown}}))
"""


def test_one_line_more_opens_a_database_of_before(worker_id):
    location = fresh_database(f"wider_{worker_id}")
    db = Database(location, size=3)
    try:
        register.load(db, json.dumps(small_register("Before")).encode(), by="t", today=TODAY)
        results.load(db, ("\n".join([HEADER, *healthy_rows()]) + "\n").encode(), fleet="Before", name="s.csv", by="t")
        people.add(db, "Before", "wider", "Wider", "right-and-long", "planner")
        evaluate.evaluate(db, "Before", TODAY)
        before = judgements.judgements(db, "Before")
    finally:
        db.close()
    environment = {**os.environ, "DATABASE_URL": location.owner_url, "DATABASE_APP_URL": location.app_url}
    ran = subprocess.run(
        [sys.executable, "-c", LATER, "Before"], capture_output=True, text=True, env=environment, cwd=clone_dir(), check=False
    )
    assert ran.returncode == 0, ran.stderr[-2000:]
    answer = json.loads(ran.stdout.splitlines()[-1])
    assert answer["said"] == before
    assert (answer["new"], answer["kept"], answer["shown"]) == (1, {"cd": 3.5, "n": 41}, True)
    assert set(answer["pages"].values()) == {200}, answer["pages"]
