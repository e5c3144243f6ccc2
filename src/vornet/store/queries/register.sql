-- :fleet  the fleet of this transaction
SELECT fleet_id, name, zone, is_demo FROM fleet

-- :depots  names to ids
SELECT depot_id, name FROM depot

-- :put_depots  add depots that are new
INSERT INTO depot (fleet_id, name) SELECT %(fleet_id)s, unnest(%(names)s::text[]) ON CONFLICT DO NOTHING

-- :oils  the oil library
SELECT oil_id, name, grade, density_kg_l, new_values, extra FROM oil ORDER BY oil_id

-- :put_oil  add or update one oil by name
INSERT INTO oil (fleet_id, name, grade, density_kg_l, new_values, extra)
VALUES (%(fleet_id)s, %(name)s, %(grade)s, %(density_kg_l)s, %(new_values)s, %(extra)s)
ON CONFLICT (fleet_id, name) DO UPDATE
SET grade = excluded.grade, density_kg_l = excluded.density_kg_l, new_values = excluded.new_values, extra = excluded.extra

-- :units  names, ids and meters
SELECT unit_id, u.name, d.name AS depot, model, duty, meter_unit, u.extra
FROM unit u LEFT JOIN depot d USING (fleet_id, depot_id) ORDER BY unit_id

-- :put_unit  add or update one unit by name
INSERT INTO unit (fleet_id, name, depot_id, model, duty, meter_unit, extra)
VALUES (%(fleet_id)s, %(name)s, (SELECT depot_id FROM depot WHERE name = %(depot)s), %(model)s, %(duty)s,
        %(meter_unit)s, %(extra)s)
ON CONFLICT (fleet_id, name) DO UPDATE
SET depot_id = excluded.depot_id, model = excluded.model, duty = excluded.duty,
    meter_unit = excluded.meter_unit, extra = excluded.extra

-- :compartments  every compartment with its unit, oil and the interval in force
SELECT c.compartment_id, c.unit_id, u.name AS unit, c.name, c.kind, c.fuel, c.family, c.system_volume_l, c.capacity_l,
       c.capacity_without_filter_l, c.volume_between_marks_l, c.oil_id, o.name AS oil, c.cap_meter, c.extra,
       u.meter_unit, i.meter AS interval_meter, i.days AS interval_days
FROM compartment c
JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN oil o ON o.fleet_id = c.fleet_id AND o.oil_id = c.oil_id
LEFT JOIN LATERAL (SELECT meter, days FROM drain_interval i
                   WHERE i.fleet_id = c.fleet_id AND i.compartment_id = c.compartment_id
                     AND i.effective_from <= %(today)s
                   ORDER BY effective_from DESC, interval_id DESC LIMIT 1) i ON true
WHERE %(only)s::bigint[] IS NULL OR c.compartment_id = ANY(%(only)s)
ORDER BY c.compartment_id

-- :put_compartment  add or update one compartment by unit and name
INSERT INTO compartment (fleet_id, unit_id, name, kind, fuel, family, system_volume_l, capacity_l,
                         capacity_without_filter_l, volume_between_marks_l, oil_id, cap_meter, extra)
VALUES (%(fleet_id)s, %(unit_id)s, %(name)s, %(kind)s, %(fuel)s, %(family)s, %(system_volume_l)s, %(capacity_l)s,
        %(capacity_without_filter_l)s, %(volume_between_marks_l)s,
        (SELECT oil_id FROM oil WHERE oil.name = %(oil)s), %(cap_meter)s, %(extra)s)
ON CONFLICT (fleet_id, unit_id, name) DO UPDATE
SET kind = excluded.kind, fuel = excluded.fuel, family = excluded.family, system_volume_l = excluded.system_volume_l,
    capacity_l = excluded.capacity_l, capacity_without_filter_l = excluded.capacity_without_filter_l,
    volume_between_marks_l = excluded.volume_between_marks_l, oil_id = excluded.oil_id,
    cap_meter = excluded.cap_meter, extra = excluded.extra

-- :register_intervals  the interval each register file last said, to tell a change from a repetition
SELECT DISTINCT ON (compartment_id) compartment_id, meter, days FROM drain_interval
WHERE origin = 'register' ORDER BY compartment_id, interval_id DESC

-- :put_interval  a new version of a compartment's interval
INSERT INTO drain_interval (fleet_id, compartment_id, effective_from, meter, days, origin, approved_by, why, evidence)
VALUES (%(fleet_id)s, %(compartment_id)s, %(effective_from)s, %(meter)s, %(days)s, %(origin)s, %(approved_by)s,
        %(why)s, %(evidence)s)

-- :intervals  every version, oldest first
SELECT i.interval_id, i.compartment_id, u.name AS unit, c.name AS compartment, u.meter_unit, i.effective_from, i.meter,
       i.days, i.origin, i.approved_by, i.why
FROM drain_interval i
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
ORDER BY i.compartment_id, i.effective_from, i.interval_id

-- :intervals_of  the versions of one compartment, oldest first
SELECT effective_from, meter, days, origin, approved_by, why, recorded_at FROM drain_interval
WHERE compartment_id = %(compartment_id)s ORDER BY effective_from, interval_id

-- :put_meter_change  one meter replacement
INSERT INTO meter_change (fleet_id, unit_id, on_day, old_meter, new_meter)
VALUES (%(fleet_id)s, %(unit_id)s, %(on_day)s, %(old)s, %(new)s)
ON CONFLICT (fleet_id, unit_id, on_day) DO UPDATE SET old_meter = excluded.old_meter, new_meter = excluded.new_meter

-- :meter_changes  all replacements, oldest first
SELECT m.unit_id, u.name AS unit, m.on_day, m.old_meter, m.new_meter
FROM meter_change m JOIN unit u USING (fleet_id, unit_id) ORDER BY m.unit_id, m.on_day

-- :readings  current readings
SELECT u.name AS unit, r.on_day, r.meter FROM meter_reading r JOIN unit u USING (fleet_id, unit_id)
WHERE r.superseded_by IS NULL ORDER BY r.unit_id, r.on_day, r.meter

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
SELECT unit_id, on_day, meter FROM meter_reading WHERE superseded_by IS NULL
UNION ALL
SELECT c.unit_id, d.on_day, d.meter FROM drain d JOIN compartment c USING (fleet_id, compartment_id)
WHERE d.superseded_by IS NULL

-- :audit  add one line to the audit trail
INSERT INTO audit (fleet_id, who, what, about, detail) VALUES (%(fleet_id)s, %(who)s, %(what)s, %(about)s, %(detail)s)

-- :demo_simulated  from which day to which the demo fleet has been simulated
SELECT detail FROM audit WHERE what = 'demo simulated' ORDER BY audit_id DESC LIMIT 1

-- :default_limits  the limit version in force on a day
SELECT limit_set_id, version, effective_from, limits FROM limit_set
WHERE effective_from <= %(today)s ORDER BY effective_from DESC, version DESC LIMIT 1

-- :put_limits  a new version of the limits
INSERT INTO limit_set (fleet_id, version, effective_from, limits, recorded_by)
SELECT %(fleet_id)s, coalesce(max(version), 0) + 1, %(effective_from)s, %(limits)s, %(by)s FROM limit_set
RETURNING limit_set_id

-- :policy  the policy in force on a day
SELECT rules FROM policy WHERE effective_from <= %(today)s ORDER BY effective_from DESC, version DESC LIMIT 1
