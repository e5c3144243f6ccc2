-- :fleet  the fleet of this transaction
SELECT fleet_id, name, zone, is_demo, measures, schools, second_factor FROM fleet

-- :put_depots  add depots that are new
INSERT INTO depot (fleet_id, name) SELECT %(fleet_id)s, unnest(%(names)s::text[]) ON CONFLICT DO NOTHING

-- :put_settings  zone, units of measure and schools of practice
UPDATE fleet SET zone = coalesce(%(zone)s, zone), measures = %(measures)s, schools = %(schools)s

-- :zone_at  the zone of a depot, of a unit's or of a compartment's, and the fleet's
SELECT f.zone AS fleet, coalesce(
    (SELECT d.zone FROM depot d WHERE d.depot_id = coalesce(%(depot_id)s::bigint,
        (SELECT u.depot_id FROM unit u WHERE u.unit_id = coalesce(%(unit_id)s::bigint,
            (SELECT c.unit_id FROM compartment c WHERE c.compartment_id = %(compartment_id)s::bigint))))),
    f.zone) AS there
FROM fleet f

-- :zones_kept  zones of depots that keep another time than the fleet
SELECT DISTINCT zone FROM depot WHERE zone IS NOT NULL

-- :oils  the oil library
SELECT oil_id, name, grade, density_kg_l, new_values, facts FROM oil ORDER BY oil_id

-- :put_oil  add or update one oil by name
INSERT INTO oil (fleet_id, name, grade, density_kg_l, new_values, facts)
VALUES (%(fleet_id)s, %(name)s, %(grade)s, %(density_kg_l)s, %(new_values)s, %(facts)s)
ON CONFLICT (fleet_id, name) DO UPDATE
SET grade = excluded.grade, density_kg_l = excluded.density_kg_l, new_values = excluded.new_values, facts = excluded.facts

-- :batches  every oil's batches, with the sample of new oil if it has come in
SELECT b.batch_id, b.oil_id, o.name AS oil, b.batch, b.received_on, b.litres, b.sample_no, b.note, s.sample_id, s.sampled_on,
       s.values
FROM oil_batch b JOIN oil o USING (fleet_id, oil_id)
LEFT JOIN sample s ON s.fleet_id = b.fleet_id AND s.sample_no = b.sample_no AND s.compartment_id IS NULL
     AND s.superseded_by IS NULL
WHERE %(oil_id)s::bigint IS NULL OR b.oil_id = %(oil_id)s ORDER BY b.oil_id, b.received_on, b.batch

-- :put_batch  a delivery of an oil, by its number
INSERT INTO oil_batch (fleet_id, oil_id, batch, received_on, litres, sample_no, note)
VALUES (%(fleet_id)s, (SELECT oil_id FROM oil WHERE name = %(oil)s), %(batch)s, %(received_on)s, %(litres)s, %(sample_no)s,
        %(note)s)
ON CONFLICT (fleet_id, oil_id, batch) DO UPDATE
SET received_on = excluded.received_on, litres = excluded.litres, sample_no = excluded.sample_no, note = excluded.note

-- :units  names, ids and meters
SELECT unit_id, u.name, d.name AS depot, model, duty, meter_unit, second_meter_unit, estimated_per_day, state, u.facts
FROM unit u LEFT JOIN depot d USING (fleet_id, depot_id) ORDER BY unit_id

-- :put_unit  add or update one unit by name
INSERT INTO unit (fleet_id, name, depot_id, model, duty, meter_unit, second_meter_unit, estimated_per_day, facts)
VALUES (%(fleet_id)s, %(name)s, (SELECT depot_id FROM depot WHERE name = %(depot)s), %(model)s, %(duty)s,
        %(meter_unit)s, %(second_meter_unit)s, %(estimated_per_day)s, %(facts)s)
ON CONFLICT (fleet_id, name) DO UPDATE
SET depot_id = excluded.depot_id, model = excluded.model, duty = excluded.duty, meter_unit = excluded.meter_unit,
    second_meter_unit = excluded.second_meter_unit, estimated_per_day = excluded.estimated_per_day, facts = excluded.facts

-- :recount  what each compartment counts follows its unit's meters
UPDATE compartment c SET counts = CASE c.meter_no WHEN 2 THEN coalesce(u.second_meter_unit, u.meter_unit) ELSE u.meter_unit END
FROM unit u WHERE u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
  AND c.counts <> CASE c.meter_no WHEN 2 THEN coalesce(u.second_meter_unit, u.meter_unit) ELSE u.meter_unit END

-- :states  when units were laid up, retired or taken back into service
SELECT s.unit_id, u.name AS unit, s.on_day, s.state, s.note, s.recorded_by FROM unit_state s JOIN unit u USING (fleet_id, unit_id)
WHERE %(unit_id)s::bigint IS NULL OR s.unit_id = %(unit_id)s ORDER BY s.unit_id, s.on_day

-- :put_state  from a day on
INSERT INTO unit_state (fleet_id, unit_id, on_day, state, note, recorded_by)
VALUES (%(fleet_id)s, %(unit_id)s, %(on_day)s, %(state)s, %(note)s, %(by)s)
ON CONFLICT (fleet_id, unit_id, on_day) DO UPDATE SET state = excluded.state, note = excluded.note, recorded_by = excluded.recorded_by

-- :refresh_states  the state in force on a day
UPDATE unit u SET state = n.state
FROM (SELECT x.unit_id, coalesce((SELECT s.state FROM unit_state s WHERE s.unit_id = x.unit_id AND s.on_day <= %(today)s
                                  ORDER BY s.on_day DESC LIMIT 1), 'in_service') AS state FROM unit x) n
WHERE u.unit_id = n.unit_id AND u.state <> n.state

-- :compartments  every compartment with its unit, oil and the interval in force
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name, c.kind, c.fuel, c.family, c.system_volume_l, c.capacity_l,
       c.capacity_without_filter_l, c.volume_between_marks_l, c.oil_id, o.name AS oil, c.cap_meter, c.facts, c.meter_no,
       c.unit_id * 2 + c.meter_no - 1 AS meter_id, u.state, u.duty, u.estimated_per_day, shared.name AS shared_unit,
       c.counts AS meter_unit, i.value AS interval_meter, k.value::integer AS interval_days,
       (SELECT t.length FROM trial t WHERE t.fleet_id = c.fleet_id AND t.compartment_id = c.compartment_id AND t.state = 'running')
           AS trial_length
FROM compartment c
JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN unit shared ON shared.fleet_id = c.fleet_id AND shared.unit_id = c.shared_unit_id
LEFT JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
LEFT JOIN in_force i ON i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id AND i.fact = 'length'
  AND i.state IN ('stands', 'stood') AND i.from_day <= %(today)s AND (i.until_day IS NULL OR i.until_day > %(today)s)
LEFT JOIN in_force k ON k.fleet_id = c.fleet_id AND k.compartment_id = c.compartment_id AND k.fact = 'calendar'
  AND k.state IN ('stands', 'stood') AND k.from_day <= %(today)s AND (k.until_day IS NULL OR k.until_day > %(today)s)
WHERE %(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s)
ORDER BY c.compartment_id

-- :put_compartment  add or update one compartment by unit and name
INSERT INTO compartment (fleet_id, unit_id, name, kind, fuel, family, system_volume_l, capacity_l,
                         capacity_without_filter_l, volume_between_marks_l, oil_id, cap_meter, facts, meter_no, counts,
                         shared_unit_id)
VALUES (%(fleet_id)s, %(unit_id)s, %(name)s, %(kind)s, %(fuel)s, %(family)s, %(system_volume_l)s, %(capacity_l)s,
        %(capacity_without_filter_l)s, %(volume_between_marks_l)s,
        (SELECT oil_id FROM oil WHERE oil.name = %(oil)s), %(cap_meter)s, %(facts)s, %(meter_no)s, %(counts)s,
        (SELECT unit_id FROM unit WHERE unit.name = %(shared_unit)s))
ON CONFLICT (fleet_id, unit_id, name) DO UPDATE
SET kind = excluded.kind, fuel = excluded.fuel, family = excluded.family, system_volume_l = excluded.system_volume_l,
    capacity_l = excluded.capacity_l, capacity_without_filter_l = excluded.capacity_without_filter_l,
    volume_between_marks_l = excluded.volume_between_marks_l, oil_id = excluded.oil_id,
    cap_meter = excluded.cap_meter, facts = excluded.facts, meter_no = excluded.meter_no, counts = excluded.counts,
    shared_unit_id = excluded.shared_unit_id

-- :intervals  everything said of intervals that came into force, trials left out, oldest first
SELECT i.interval_id, i.compartment_id, u.name AS unit, c.name AS compartment, c.counts AS meter_unit, i.effective_from, i.meter,
       i.days, i.origin, i.approved_by, i.why, i.said_on, i.says_length, i.says_calendar
FROM drain_interval i
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE i.origin <> 'trial' AND EXISTS (SELECT 1 FROM in_force f WHERE f.fleet_id = i.fleet_id AND f.interval_id = i.interval_id
                                      AND f.state IN ('stands', 'stood'))
ORDER BY i.compartment_id, i.effective_from, i.interval_id

-- :put_meter_change  one meter replacement
INSERT INTO meter_change (fleet_id, unit_id, on_day, meter_no, old_meter, new_meter)
VALUES (%(fleet_id)s, %(unit_id)s, %(on_day)s, %(meter_no)s, %(old)s, %(new)s)
ON CONFLICT (fleet_id, unit_id, on_day, meter_no)
DO UPDATE SET old_meter = excluded.old_meter, new_meter = excluded.new_meter

-- :meter_changes  all replacements, oldest first
SELECT m.unit_id, m.unit_id * 2 + m.meter_no - 1 AS meter_id, m.meter_no, u.name AS unit, m.on_day, m.old_meter, m.new_meter
FROM meter_change m JOIN unit u USING (fleet_id, unit_id) ORDER BY m.unit_id, m.meter_no, m.on_day

-- :readings  current readings
SELECT u.name AS unit, r.on_day, r.meter, r.meter_no FROM meter_reading r JOIN unit u USING (fleet_id, unit_id)
WHERE r.superseded_by IS NULL ORDER BY r.unit_id, r.meter_no, r.on_day, r.meter

-- :drains  current drains
SELECT u.name AS unit, c.name AS compartment, d.on_day, d.meter, d.volume_out_l, d.volume_out_kind, d.level_missing_l,
       d.volume_in_l, o.name AS oil, d.filter_changed, d.magnet_grade, d.air_filter, d.sample_no, d.note, d.extra
FROM drain d JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN oil o ON o.fleet_id = d.fleet_id AND o.oil_id = d.oil_id
WHERE d.superseded_by IS NULL ORDER BY d.compartment_id, d.on_day

-- :top_ups  current top-ups
SELECT u.name AS unit, c.name AS compartment, t.on_day, t.meter, t.litres, t.extra
FROM top_up t JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE t.superseded_by IS NULL ORDER BY t.compartment_id, t.on_day, t.meter

-- :level_checks  current level checks
SELECT u.name AS unit, c.name AS compartment, l.on_day, l.meter, l.level_missing_l, l.extra
FROM level_check l JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE l.superseded_by IS NULL ORDER BY l.compartment_id, l.on_day, l.meter

-- :events  current events
SELECT u.name AS unit, c.name AS compartment, e.on_day, e.meter, e.kind, e.litres_out, e.litres_in, e.filter_changed,
       e.serial, e.note, e.extra
FROM event e JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE e.superseded_by IS NULL ORDER BY e.compartment_id, e.on_day

-- :meter_points  every figure the units' meters have shown
SELECT unit_id * 2 + meter_no - 1 AS meter_id, on_day, meter FROM meter_reading WHERE superseded_by IS NULL
UNION ALL
SELECT c.unit_id * 2 + c.meter_no - 1, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL

-- :audit  add one line to the audit trail
INSERT INTO audit (fleet_id, who, what, about, detail) VALUES (%(fleet_id)s, %(who)s, %(what)s, %(about)s, %(detail)s)

-- :demo_simulated  from which day to which the demo fleet has been simulated
SELECT detail FROM audit WHERE what = 'demo simulated' ORDER BY audit_id DESC LIMIT 1

-- :default_limits  the limit version in force on a day
SELECT limit_set_id, version, effective_from, limits FROM limit_set
WHERE effective_from <= %(today)s ORDER BY effective_from DESC, version DESC LIMIT 1

-- :put_limits  a new version of the limits
INSERT INTO limit_set (fleet_id, version, effective_from, limits, recorded_by, why)
SELECT %(fleet_id)s, coalesce(max(version), 0) + 1, %(effective_from)s, %(limits)s, %(by)s, %(why)s FROM limit_set
RETURNING limit_set_id

-- :service_items  every item with its place
SELECT i.item_id, i.unit_id, i.compartment_id, u.name AS unit, c.name AS compartment, i.name AS item, i.every_meter, i.every_days,
       i.every_nth, i.nth_of, i.first_meter, i.season, i.since, i.condition, i.facts, i.due_meter, i.due_day, i.driver, i.to_due,
       i.last_day, i.last_meter, u.state, coalesce(c.counts, u.meter_unit) AS meter_unit,
       i.unit_id * 2 + coalesce(c.meter_no, 1) - 1 AS meter_id
FROM service_item i JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
WHERE %(units)s::bigint[] IS NULL OR i.unit_id = ANY(%(units)s)
ORDER BY i.unit_id, i.item_id

-- :put_item  add or change one item by place and name
INSERT INTO service_item (fleet_id, unit_id, compartment_id, name, every_meter, every_days, every_nth, nth_of, first_meter,
                          season, condition, facts, since)
VALUES (%(fleet_id)s, %(unit_id)s, %(compartment_id)s, %(name)s, %(every_meter)s, %(every_days)s, %(every_nth)s, %(nth_of)s,
        %(first_meter)s, %(season)s, %(condition)s, %(facts)s,
        coalesce((SELECT judged_on FROM fleet WHERE fleet_id = %(fleet_id)s), current_date))
ON CONFLICT (fleet_id, unit_id, coalesce(compartment_id, 0), name) DO UPDATE
SET every_meter = excluded.every_meter, every_days = excluded.every_days, every_nth = excluded.every_nth,
    nth_of = excluded.nth_of, first_meter = excluded.first_meter, season = excluded.season, condition = excluded.condition,
    facts = excluded.facts, since = CASE WHEN service_item.season IS DISTINCT FROM excluded.season THEN excluded.since ELSE service_item.since END

-- :remove_item  what was done stays in the audit trail
DELETE FROM service_item WHERE item_id = %(item_id)s RETURNING name

-- :item_due  what became of it when it was worked out
UPDATE service_item SET due_meter = %(due_meter)s, due_day = %(due_day)s, driver = %(driver)s, to_due = %(to_due)s,
    last_day = %(last_day)s, last_meter = %(last_meter)s
WHERE item_id = %(item_id)s

-- :service_records  what was done, oldest first
SELECT r.record_id, r.item_id, u.name AS unit, c.name AS compartment, i.name AS item, r.on_day, r.meter, r.outcome, r.reading,
       r.note, r.recorded_by
FROM service_record r JOIN service_item i USING (fleet_id, item_id) JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN compartment c ON c.fleet_id = i.fleet_id AND c.compartment_id = i.compartment_id
WHERE r.superseded_by IS NULL AND (%(units)s::bigint[] IS NULL OR i.unit_id = ANY(%(units)s))
ORDER BY r.item_id, r.on_day, r.record_id

-- :drain_days  when the compartments of some units were drained, for items that ride on the drain
SELECT c.unit_id, d.compartment_id, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL AND (%(units)s::bigint[] IS NULL OR c.unit_id = ANY(%(units)s)) ORDER BY d.compartment_id, d.on_day

-- :templates  patterns for new units, by name
SELECT template_id, name, content, recorded_at, recorded_by FROM unit_template ORDER BY name

-- :put_template  by name
INSERT INTO unit_template (fleet_id, name, content, recorded_by) VALUES (%(fleet_id)s, %(name)s, %(content)s, %(by)s)
ON CONFLICT (fleet_id, name) DO UPDATE SET content = excluded.content, recorded_by = excluded.recorded_by, recorded_at = now()

-- :remove_template  units made from it stay
DELETE FROM unit_template WHERE template_id = %(template_id)s RETURNING name

-- :limit_versions  newest first
SELECT limit_set_id, version, effective_from, limits, recorded_at, recorded_by, why FROM limit_set ORDER BY version DESC LIMIT 40

-- :duties  what decides which limits apply
SELECT c.compartment_id, c.kind, c.fuel, c.family, u.name AS unit FROM compartment c JOIN unit u USING (fleet_id, unit_id)
ORDER BY c.compartment_id

-- :precision  a fleet's own precision in force on a day
SELECT version, rows FROM precision_set WHERE effective_from <= %(today)s ORDER BY version DESC LIMIT 1

-- :put_precision  a dated version of the fleet's own
INSERT INTO precision_set (fleet_id, version, effective_from, rows, why, recorded_by)
SELECT %(fleet_id)s, coalesce(max(version), 0) + 1, %(effective_from)s, %(rows)s, %(why)s, %(by)s FROM precision_set
RETURNING version

-- :precision_versions  newest first
SELECT version, effective_from, rows, why, recorded_by FROM precision_set ORDER BY version DESC LIMIT 20

-- :fleet_named  asked before a fleet is known
SELECT fleet_named(%(name)s) AS id

-- :fleet_names  the fleets there are
SELECT name FROM fleet_names()

-- :fleet_make  a fleet of that name
SELECT fleet_make(%(name)s, %(zone)s, %(demo)s) AS id

-- :fleet_drop  a fleet with everything in it; the owner's alone
SELECT fleet_drop(%(fleet_id)s)

-- :begun  how far the first week is
SELECT begun FROM fleet WHERE fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer

-- :first_week  what a new fleet has so far
SELECT f.begun, (SELECT count(*) FROM unit) AS units, (SELECT count(*) FROM compartment) AS compartments,
       (SELECT count(*) FROM depot WHERE hours IS NOT NULL) AS depots, (SELECT count(*) FROM oil) AS oils,
       (SELECT count(*) FROM oil o WHERE EXISTS (SELECT 1 FROM unnest(o.new_values) v WHERE v <> 'NaN')) AS oils_known,
       (SELECT count(*) FROM membership) AS people, (SELECT count(*) FROM sample WHERE superseded_by IS NULL) AS samples,
       (SELECT count(*) FROM verdict) AS signed, (SELECT count(*) FROM drain_interval WHERE origin = 'approved') AS approved,
       (SELECT count(*) FROM list_row WHERE state = 'waits') AS waits
FROM fleet f WHERE f.fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer

-- :set_begun  how far the first week is
UPDATE fleet SET begun = %(begun)s WHERE fleet_id = nullif(current_setting('vornet.fleet_id', true), '')::integer
