-- :item  one item with its place
SELECT i.item_id, i.unit_id, i.compartment_id, u.name AS unit, c.name AS compartment, i.name AS item, i.every_meter, i.every_days,
       i.every_nth, i.nth_of, i.first_meter, i.season, i.condition, i.facts, i.due_meter, i.due_day, i.driver, i.to_due,
       i.last_day, i.last_meter, coalesce(c.counts, u.meter_unit) AS meter_unit, coalesce(c.meter_no, 1) AS meter_no
FROM service_item i JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
WHERE i.item_id = %(item_id)s

-- :records_of  what was done, newest first
SELECT record_id, on_day, meter, outcome, reading, note, recorded_by FROM service_record
WHERE item_id = %(item_id)s AND superseded_by IS NULL ORDER BY on_day DESC, record_id DESC LIMIT 40

-- :meter_points  figures of some units' meters, newest hundred a meter are plenty
SELECT meter_id, on_day, meter FROM (
    SELECT unit_id, unit_id * 2 + meter_no - 1 AS meter_id, on_day, meter FROM meter_reading WHERE superseded_by IS NULL
    UNION ALL
    SELECT c.unit_id, c.unit_id * 2 + c.meter_no - 1, d.on_day, d.meter
    FROM drain d JOIN compartment c USING (fleet_id, compartment_id) WHERE d.superseded_by IS NULL) m
WHERE (%(units)s::bigint[] IS NULL OR unit_id = ANY(%(units)s))
  AND unit_id IN (SELECT unit_id FROM service_item)

-- :oil_drains_due  where the oil of some units' compartments stands
SELECT s.compartment_id, s.due_meter, s.due_day, s.interval_meter, i.value::integer AS interval_days
FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
LEFT JOIN in_force i ON i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id AND i.fact = 'calendar'
  AND i.state IN ('stands', 'stood') AND i.from_day <= s.as_of AND (i.until_day IS NULL OR i.until_day > s.as_of)
WHERE %(units)s::bigint[] IS NULL OR c.unit_id = ANY(%(units)s)

-- :due  services and oil drains, soonest first, with how many there are of each state beside every row (one row of nothing where
-- there are none of what is asked for)
WITH x AS MATERIALIZED (
    SELECT 'item' AS what, i.item_id AS id, u.unit_id, i.compartment_id, u.name AS unit, c.name AS compartment, i.name AS item,
           d.name AS depot, coalesce(c.counts, u.meter_unit) AS meter_unit, i.due_meter, i.due_day, i.due_first, i.due_last, i.driver, i.to_due,
           i.last_day, i.condition, i.facts -> 'parts' AS parts
    FROM service_item i JOIN unit u USING (fleet_id, unit_id)
    LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
    LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
    WHERE u.state <> 'retired'
    UNION ALL
    SELECT 'drain', c.compartment_id, u.unit_id, c.compartment_id, u.name, c.name, 'Oil drain', d.name, c.counts, s.due_meter,
           s.due_day, s.due_first, s.due_last, s.due_driver, s.to_due, NULL, NULL, NULL
    FROM standing s JOIN compartment c USING (fleet_id, compartment_id)
    JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
    LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
    WHERE u.state <> 'retired'
    UNION ALL
    SELECT 'bottle', c.compartment_id, u.unit_id, c.compartment_id, u.name, c.name, 'Bottle for the trial', d.name, c.counts,
           s.due_meter - s.interval_meter + t.next_at, t.next_day, NULL, NULL, 'trial', t.next_at - s.oil_hours, NULL, NULL, NULL
    FROM trial t JOIN standing s USING (fleet_id, compartment_id)
    JOIN compartment c ON c.fleet_id = t.fleet_id AND c.compartment_id = t.compartment_id
    JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
    LEFT JOIN depot d ON d.fleet_id = u.fleet_id AND d.depot_id = u.depot_id
    WHERE t.state = 'running' AND t.next_at IS NOT NULL AND u.state <> 'retired'
), counted AS (
    SELECT count(*) FILTER (WHERE due_day <= %(until)s) AS all,
           count(*) FILTER (WHERE to_due < 0 OR due_day < %(today)s AND (to_due IS NULL OR driver NOT IN ('meter', 'break-in'))) AS overdue,
           count(*) FILTER (WHERE what = 'item' AND due_day <= %(until)s) AS items,
           count(*) FILTER (WHERE what = 'drain' AND due_day <= %(until)s) AS drains,
           count(*) FILTER (WHERE what = 'bottle') AS bottles,
           count(*) FILTER (WHERE what = 'item' AND driver = 'no record yet') AS unknown,
           count(*) FILTER (WHERE what = 'item' AND condition IS NOT NULL) AS condition
    FROM x WHERE %(depot)s = '' OR depot = %(depot)s
), page AS (
    SELECT *, coalesce(to_due < 0 OR due_day < %(today)s AND (to_due IS NULL OR driver NOT IN ('meter', 'break-in')), false) AS overdue
    FROM x
    WHERE (%(depot)s = '' OR depot = %(depot)s)
      AND (%(what)s = 'all' AND due_day <= %(until)s
        OR %(what)s = 'overdue' AND (to_due < 0 OR due_day < %(today)s AND (to_due IS NULL OR driver NOT IN ('meter', 'break-in')))
        OR %(what)s = 'items' AND what = 'item' AND due_day <= %(until)s
        OR %(what)s = 'drains' AND what = 'drain' AND due_day <= %(until)s
        OR %(what)s = 'bottles' AND what = 'bottle'
        OR %(what)s = 'unknown' AND what = 'item' AND driver = 'no record yet'
        OR %(what)s = 'condition' AND what = 'item' AND condition IS NOT NULL)
    ORDER BY overdue DESC, due_day NULLS LAST, unit, compartment NULLS FIRST, item LIMIT %(limit)s OFFSET %(offset)s
)
SELECT page.*, to_jsonb(counted) AS counts FROM counted LEFT JOIN page ON true
ORDER BY overdue DESC, due_day NULLS LAST, unit, compartment NULLS FIRST, item

-- :record_back  a record that counts no more
UPDATE service_record r SET superseded_by = r.record_id, superseded_why = %(why)s
FROM service_item i JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
WHERE i.fleet_id = r.fleet_id AND i.item_id = r.item_id AND r.item_id = %(item_id)s AND r.record_id = %(record_id)s AND r.superseded_by IS NULL
RETURNING u.unit_id, u.name AS unit, c.name AS compartment, i.name AS item, r.on_day
