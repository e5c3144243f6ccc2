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
