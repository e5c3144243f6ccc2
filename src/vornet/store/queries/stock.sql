-- :item_parts  parts that service items use
SELECT item_id, facts -> 'parts' AS parts FROM service_item WHERE facts ? 'parts'

-- :things_of  what a depot counts
SELECT DISTINCT thing FROM stock_move WHERE depot_id = %(depot_id)s

-- :set_short  what planned visits will miss; the others miss nothing
UPDATE visit v SET short = coalesce(%(short)s::jsonb -> v.visit_id::text, '[]')
WHERE v.state = 'planned' AND v.short IS DISTINCT FROM coalesce(%(short)s::jsonb -> v.visit_id::text, '[]')

-- :short  planned visits that will miss something
SELECT v.visit_id, v.unit_id, u.name AS unit, d.name AS depot, v.on_day, v.short FROM visit v JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN depot d ON d.fleet_id = v.fleet_id AND d.depot_id = v.depot_id
WHERE v.state = 'planned' AND v.short <> '[]' AND (%(unit_id)s::bigint IS NULL OR v.unit_id = %(unit_id)s) ORDER BY v.on_day, u.name LIMIT 50
