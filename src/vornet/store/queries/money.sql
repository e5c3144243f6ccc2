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
