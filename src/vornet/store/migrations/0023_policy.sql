-- Rules by which intervals move, said for the fleet, a duty, a family or one unit, each from a day on; the nearest that says a rule wins.
ALTER TABLE policy ADD COLUMN scope text NOT NULL DEFAULT 'fleet' CHECK (scope IN ('fleet', 'duty', 'family', 'unit')),
    ADD COLUMN place text NOT NULL DEFAULT '', ADD COLUMN why text NOT NULL DEFAULT '',
    ADD CHECK ((scope = 'fleet') = (place = ''));
CREATE INDEX policy_latest ON policy (fleet_id, scope, place, effective_from DESC, version DESC);
