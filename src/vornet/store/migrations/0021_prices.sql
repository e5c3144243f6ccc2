-- What things cost, as people keep it: for the fleet, a family or one unit, each from a day on; the nearest that says something wins.
ALTER TABLE fleet ADD COLUMN currency text NOT NULL DEFAULT '' CHECK (currency ~ '^([A-Z]{3})?$');
GRANT UPDATE (currency) ON fleet TO vornet_app;
CREATE TABLE price (
    fleet_id       integer NOT NULL REFERENCES fleet ON DELETE CASCADE,
    price_id       bigint GENERATED ALWAYS AS IDENTITY,
    scope          text NOT NULL CHECK (scope IN ('fleet', 'family', 'unit')),
    place          text NOT NULL DEFAULT '', -- the family's or the unit's name
    effective_from date NOT NULL,
    prices         jsonb NOT NULL,
    recorded_at    timestamptz NOT NULL DEFAULT now(),
    recorded_by    text NOT NULL,
    PRIMARY KEY (fleet_id, price_id),
    CHECK ((scope = 'fleet') = (place = ''))
);
CREATE INDEX price_latest ON price (fleet_id, scope, place, effective_from DESC, price_id DESC);
ALTER TABLE price ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_fleet ON price USING (fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer);
GRANT SELECT, INSERT ON price TO vornet_app;
