-- :drain  one that holds, with its place; two who put it right at once take turns
SELECT d.drain_id, d.compartment_id, d.on_day, d.meter, d.volume_out_l, d.volume_out_kind, d.level_missing_l, d.volume_in_l,
       d.filter_changed, d.sample_no, d.recorded_by, d.recorded_at, c.name AS compartment, c.counts AS meter_unit, u.unit_id, u.name AS unit
FROM drain d JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE d.drain_id = %(drain_id)s AND d.superseded_by IS NULL FOR UPDATE OF d

-- :place  a compartment by its unit's name and its own
SELECT c.compartment_id FROM compartment c JOIN unit u USING (fleet_id, unit_id)
WHERE u.name = %(unit)s AND c.name = %(compartment)s

-- :supersede  it stays on record, with why it does not hold; by itself where nothing takes its place
UPDATE drain SET superseded_by = %(by_id)s, superseded_why = %(why)s WHERE drain_id = %(drain_id)s

-- :again  the same drain with what was wrong put right; all else as it was noted
INSERT INTO drain (fleet_id, compartment_id, on_day, meter, volume_out_l, volume_out_kind, level_missing_l, volume_in_l, oil_id,
    filter_changed, magnet_grade, air_filter, sample_no, note, extra, recorded_by)
SELECT d.fleet_id, %(compartment_id)s, %(on_day)s, %(meter)s, %(volume_out_l)s,
       CASE WHEN %(volume_out_l)s::float8 IS NULL THEN 'unknown' ELSE coalesce(%(kind)s, d.volume_out_kind) END,
       d.level_missing_l, %(volume_in_l)s, d.oil_id, %(filter_changed)s, d.magnet_grade, d.air_filter, d.sample_no, d.note, d.extra, %(by)s
FROM drain d WHERE d.drain_id = %(drain_id)s RETURNING drain_id

-- :part_follows  the job's part points at the drain that holds
UPDATE job_part SET drain_id = %(new_id)s WHERE drain_id = %(drain_id)s

-- :bottle_follows  its bottle goes where the drain goes; how old that oil was is worked anew
UPDATE bottle b SET drain_id = %(new_id)s, compartment_id = %(compartment_id)s, drawn_on = %(on_day)s, meter = %(meter)s,
    oil_hours = %(meter)s - (SELECT p.meter FROM drain p WHERE p.compartment_id = %(compartment_id)s AND p.superseded_by IS NULL
                             AND p.on_day < %(on_day)s ORDER BY p.on_day DESC LIMIT 1),
    topup_l = CASE WHEN b.compartment_id = %(compartment_id)s THEN b.topup_l END
WHERE b.drain_id = %(drain_id)s RETURNING b.sample_no

-- :bottle_stays  drawn all the same
UPDATE bottle SET drain_id = NULL WHERE drain_id = %(drain_id)s RETURNING sample_no

-- :samples  what the lab has reported of these bottles
SELECT sample_id, sampled_on, meter, drained FROM sample
WHERE sample_no = ANY(%(numbers)s) AND compartment_id = %(compartment_id)s AND superseded_by IS NULL ORDER BY sample_id

-- :parts_catch_up  jobs whose drain a file put right point at the row that holds
UPDATE job_part p SET drain_id = d.superseded_by FROM drain d
WHERE d.fleet_id = p.fleet_id AND d.drain_id = p.drain_id AND d.superseded_by IS NOT NULL AND d.superseded_by <> d.drain_id

-- :bottles_catch_up  and so do bottles
UPDATE bottle b SET drain_id = d.superseded_by FROM drain d
WHERE d.fleet_id = b.fleet_id AND d.drain_id = b.drain_id AND d.superseded_by IS NOT NULL AND d.superseded_by <> d.drain_id
