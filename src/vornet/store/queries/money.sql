-- :prices  what is in force on a day, one row a place
SELECT DISTINCT ON (scope, place) scope, place, effective_from, prices, recorded_by FROM price
WHERE effective_from <= %(today)s ORDER BY scope, place, effective_from DESC, price_id DESC

-- :price_versions  every version, the newest first
SELECT scope, place, effective_from, prices, recorded_by, recorded_at FROM price ORDER BY effective_from DESC, price_id DESC LIMIT 50

-- :put_price  a new version; none is rewritten
INSERT INTO price (fleet_id, scope, place, effective_from, prices, recorded_by)
VALUES (%(fleet_id)s, %(scope)s, %(place)s, %(effective_from)s, %(prices)s, %(by)s)

-- :put_currency  one a fleet
UPDATE fleet SET currency = %(currency)s

-- :currency  what money is counted in here
SELECT currency FROM fleet

-- :places  families and units that prices can be said for
SELECT array(SELECT DISTINCT family FROM compartment WHERE family <> '' ORDER BY family) AS families,
       array(SELECT name FROM unit ORDER BY name) AS units

-- :policies  rules in force on a day, one row a place
SELECT DISTINCT ON (scope, place) scope, place, rules FROM policy
WHERE effective_from <= %(today)s ORDER BY scope, place, effective_from DESC, version DESC

-- :policy_versions  every version, the newest first
SELECT scope, place, version, effective_from, rules, recorded_by, recorded_at, why FROM policy ORDER BY version DESC LIMIT 50

-- :put_policy  a new version; none is rewritten
INSERT INTO policy (fleet_id, version, scope, place, effective_from, rules, recorded_by, why)
SELECT %(fleet_id)s, coalesce(max(version), 0) + 1, %(scope)s, %(place)s, %(effective_from)s, %(rules)s, %(by)s, %(why)s FROM policy

-- :policy_places  compartments with what rules can be said for, and the interval they run
SELECT c.compartment_id, u.name AS unit, c.family, coalesce(u.duty, '') AS duty, s.interval_meter AS meter, c.counts
FROM compartment c JOIN unit u USING (fleet_id, unit_id) LEFT JOIN standing s USING (fleet_id, compartment_id)

-- :moved  intervals approved and fallen back to in a span of days, newest first, with what ran before each: a trial is no interval to go back
-- from
SELECT i.*, u.name AS unit, c.name AS compartment, c.family, c.counts AS meter_unit, d.name AS depot, s.rate_per_day,
       coalesce(c.capacity_l, c.system_volume_l) AS litres, s.held_word, s.interval_meter AS now_meter
FROM (SELECT v.interval_id, f.compartment_id, f.fleet_id, f.from_day AS effective_from, f.value AS meter, v.days, f.origin, v.approved_by, v.why,
             v.recorded_at, v.evidence ->> 'limiting' AS limiting, (v.evidence ->> 'chance_at_approved')::double precision AS chance,
             (v.evidence ->> 'safe')::double precision AS safe, (v.evidence ->> 'proposed')::double precision AS proposed,
             (v.evidence ->> 'charges')::integer AS charges,
             lag(f.value) OVER w AS before, lag(f.interval_id) OVER w AS before_id
      FROM in_force f JOIN drain_interval v USING (fleet_id, interval_id)
      WHERE f.fact = 'length' AND f.state IN ('stands', 'stood') AND f.value IS NOT NULL AND f.origin <> 'trial'
        AND (f.until_day IS NULL OR f.until_day > f.from_day)
      WINDOW w AS (PARTITION BY f.compartment_id ORDER BY f.from_day, f.place)) i
JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
LEFT JOIN standing s ON s.fleet_id = c.fleet_id AND s.compartment_id = c.compartment_id
WHERE i.origin IN ('approved', 'fell_back') AND i.interval_id IS DISTINCT FROM i.before_id AND i.effective_from BETWEEN %(since)s AND %(until)s
ORDER BY i.effective_from DESC, i.interval_id DESC LIMIT 5000

-- :held_now  what the approved intervals in force have come to
SELECT count(*) FILTER (WHERE held_word = 'held') AS held, count(*) FILTER (WHERE held_word = 'early') AS early,
       count(*) FILTER (WHERE held_word = 'back') AS back FROM standing

-- :put_declined  a proposal that is not followed, and why
INSERT INTO declined (fleet_id, compartment_id, outcome, proposed, current, why, on_day, by)
VALUES (%(fleet_id)s, %(compartment_id)s, %(outcome)s, %(proposed)s, %(current)s, %(why)s, %(on)s, %(by)s)

-- :declined  proposals that were not followed in a span of days, newest first
SELECT x.on_day, x.outcome, x.proposed, x.current, x.why, x.by, u.name AS unit, c.name AS compartment, c.counts AS meter_unit, x.compartment_id
FROM declined x JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE x.on_day BETWEEN %(since)s AND %(until)s AND (%(compartment_id)s::bigint IS NULL OR x.compartment_id = %(compartment_id)s)
ORDER BY x.declined_id DESC LIMIT 1000
