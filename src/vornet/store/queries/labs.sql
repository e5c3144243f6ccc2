-- :labs  every lab with its turnaround over half a year: bottle on its way, at the lab, in all (days, median and slow)
SELECT l.lab_id, l.name, l.way, l.address, l.key <> '' AS has_key, l.usual_days, l.depots, l.meanings, l.cursor, l.asked_at, l.trouble,
       t.n, t.way_days, t.lab_days, t.all_days, t.slow_days, t.last_on
FROM lab l LEFT JOIN LATERAL (
    SELECT count(*) AS n,
           percentile_cont(0.5) WITHIN GROUP (ORDER BY s.received_on - s.sampled_on) AS way_days,
           percentile_cont(0.5) WITHIN GROUP (ORDER BY s.reported_on - s.received_on) AS lab_days,
           percentile_cont(0.5) WITHIN GROUP (ORDER BY s.reported_on - s.sampled_on) AS all_days,
           percentile_cont(0.95) WITHIN GROUP (ORDER BY s.reported_on - s.sampled_on) AS slow_days,
           max(s.reported_on) AS last_on
    FROM sample s
    WHERE s.lab = l.name AND s.superseded_by IS NULL AND s.reported_on >= s.sampled_on
      AND s.sampled_on BETWEEN %(today)s::date - 200 AND %(today)s::date
) t ON true
ORDER BY l.name

-- :lab  one lab
SELECT lab_id, name, way, address, key, usual_days, depots, meanings, cursor, asked_at, trouble FROM lab WHERE lab_id = %(lab_id)s

-- :lab_named  by name, for files that only name it
SELECT lab_id, name, way, address, key, usual_days, depots, meanings FROM lab WHERE name = %(name)s

-- :note  labs that results came from
INSERT INTO lab (fleet_id, name, recorded_by) VALUES (%(fleet_id)s, %(name)s, %(by)s) ON CONFLICT (fleet_id, name) DO NOTHING

-- :put_lab  by name: made or changed; a key stays only with the address it was given for
INSERT INTO lab (fleet_id, name, way, address, key, usual_days, depots, recorded_by)
VALUES (%(fleet_id)s, %(name)s, %(way)s, %(address)s, %(key)s, %(usual_days)s, %(depots)s, %(by)s)
ON CONFLICT (fleet_id, name) DO UPDATE SET way = excluded.way, address = excluded.address,
    key = CASE WHEN excluded.key <> '' THEN excluded.key WHEN lab.address = excluded.address THEN lab.key ELSE '' END, usual_days = excluded.usual_days,
    depots = excluded.depots, trouble = '', recorded_by = excluded.recorded_by
RETURNING lab_id

-- :explain  remember what headings mean
UPDATE lab SET meanings = meanings || %(meanings)s::jsonb WHERE name = %(name)s

-- :forget_meaning  what a heading was said to mean
UPDATE lab SET meanings = meanings - %(heading)s WHERE lab_id = %(lab_id)s

-- :to_ask  labs that are asked or whose folder is watched
SELECT lab_id, name, way, address, key, cursor FROM lab WHERE way <> 'hand' ORDER BY lab_id

-- :asked  when a lab was asked and what went wrong
UPDATE lab SET asked_at = now(), trouble = %(trouble)s WHERE lab_id = %(lab_id)s

-- :move_cursor  how far a lab's reports have been read
UPDATE lab SET cursor = %(cursor)s WHERE lab_id = %(lab_id)s

-- :bottles  with their state, newest first
WITH known AS (
    SELECT b.*, sh.number AS shipment, sh.sent_on, sh.lab_id, l.name AS lab, coalesce(l.usual_days, 10) AS usual_days,
           s.sample_id, s.reported_on, s.received_on AS lab_received_on, e.proposed,
           EXISTS (SELECT 1 FROM verdict v WHERE v.sample_id = s.sample_id AND v.superseded_by IS NULL) AS signed,
           EXISTS (SELECT 1 FROM hold h WHERE h.sample_id = s.sample_id AND (h.settled_at IS NULL OR h.settlement = 'rejected')) AS held
    FROM bottle b
    LEFT JOIN shipment sh ON sh.shipment_id = b.shipment_id
    LEFT JOIN lab l ON l.lab_id = sh.lab_id
    LEFT JOIN LATERAL (SELECT sample_id, reported_on, received_on FROM sample s
                       WHERE s.sample_no = b.sample_no AND s.superseded_by IS NULL
                         AND s.compartment_id IS NOT DISTINCT FROM b.compartment_id LIMIT 1) s ON true
    LEFT JOIN evaluation e ON e.sample_id = s.sample_id
), stated AS (
    SELECT k.*, CASE WHEN k.lost_on IS NOT NULL THEN 'lost'
                     WHEN k.sample_id IS NULL THEN CASE WHEN coalesce(k.received_on, k.lab_received_on) IS NOT NULL THEN 'received'
                                                        WHEN k.sent_on IS NOT NULL THEN 'sent' ELSE 'drawn' END
                     WHEN k.held OR (k.proposed IS NULL AND k.compartment_id IS NOT NULL) THEN 'reported'
                     WHEN k.signed THEN 'judged' ELSE 'screened' END AS state
    FROM known k
)
SELECT st.bottle_id, st.sample_no, st.compartment_id, st.drawn_on, st.meter, st.oil_hours, st.topup_l, st.conditions, st.drain_id, st.drawn_by,
       st.batch, st.shipment_id, st.shipment, st.sent_on, st.lab_id, st.lab, st.usual_days, st.sample_id, st.reported_on, st.proposed,
       st.held, coalesce(st.received_on, st.lab_received_on) AS received_on, st.lost_on, st.lost_why, st.state, o.name AS oil,
       u.name AS unit, c.name AS compartment, dp.name AS depot, c.counts AS meter_unit,
       (st.state IN ('sent', 'received') AND %(today)s::date - st.sent_on > st.usual_days) AS late,
       (st.state IN ('sent', 'received') AND %(today)s::date - st.sent_on > 2 * st.usual_days) AS missing,
       (st.state = 'drawn' AND st.shipment_id IS NULL AND %(today)s::date - st.drawn_on > 2) AS unsent
FROM stated st
LEFT JOIN compartment c ON c.compartment_id = st.compartment_id LEFT JOIN unit u ON u.unit_id = c.unit_id
LEFT JOIN depot dp ON dp.depot_id = u.depot_id
LEFT JOIN oil o ON o.oil_id = coalesce(st.oil_id, c.oil_id)
WHERE (%(shipment_id)s::bigint IS NULL OR st.shipment_id = %(shipment_id)s)
  AND (%(bottle_id)s::bigint IS NULL OR st.bottle_id = %(bottle_id)s)
  AND (%(shipment_id)s::bigint IS NOT NULL OR %(bottle_id)s::bigint IS NOT NULL
       OR st.state IN ('drawn', 'sent', 'received', 'reported') OR st.drawn_on > %(today)s::date - 45)
ORDER BY st.drawn_on DESC, st.bottle_id DESC LIMIT 600

-- :put_bottle  registered by hand
INSERT INTO bottle (fleet_id, sample_no, compartment_id, drawn_on, meter, oil_hours, oil_id, batch, topup_l, conditions, drawn_by)
VALUES (%(fleet_id)s, %(sample_no)s, %(compartment_id)s, %(drawn_on)s, %(meter)s, %(oil_hours)s, %(oil_id)s, %(batch)s, %(topup_l)s,
        %(conditions)s, %(by)s)
ON CONFLICT (fleet_id, sample_no) DO NOTHING RETURNING bottle_id

-- :place_bottle  where a bottle comes from
SELECT c.compartment_id, c.name AS compartment, u.unit_id, u.name AS unit, dp.name AS depot, c.oil_id, c.counts AS meter_unit, c.meter_no,
       (SELECT d.meter FROM drain d WHERE d.compartment_id = c.compartment_id AND d.superseded_by IS NULL AND d.on_day <= %(on)s
        ORDER BY d.on_day DESC LIMIT 1) AS filled_at,
       (SELECT d.on_day FROM drain d WHERE d.compartment_id = c.compartment_id AND d.superseded_by IS NULL AND d.on_day <= %(on)s
        ORDER BY d.on_day DESC LIMIT 1) AS filled_on
FROM compartment c JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot dp ON dp.depot_id = u.depot_id
WHERE c.compartment_id = %(compartment_id)s

-- :oil_of_batch  a bottle of new oil names its delivery
SELECT o.oil_id, o.name FROM oil o WHERE o.oil_id = %(oil_id)s

-- :name_batch  the batch whose sample a bottle of new oil is
UPDATE oil_batch SET sample_no = %(sample_no)s WHERE oil_id = %(oil_id)s AND batch = %(batch)s

-- :make_shipment  a new parcel with the next number
INSERT INTO shipment (fleet_id, number, lab_id, made_on, note, made_by)
VALUES (%(fleet_id)s, %(number)s, %(lab_id)s, %(made_on)s, %(note)s, %(by)s) RETURNING shipment_id

-- :number_parcels_one_by_one  until the transaction ends
SELECT pg_advisory_xact_lock(hashtext('parcel numbers'), %(fleet_id)s)

-- :last_of_year  the highest number given; an emptied parcel may have left a gap
SELECT coalesce(max(split_part(number, '-', 2)::integer), 0) AS n FROM shipment WHERE number LIKE %(like)s

-- :pack  bottles into a parcel, those still free
UPDATE bottle SET shipment_id = %(shipment_id)s WHERE bottle_id = ANY(%(bottles)s) AND shipment_id IS NULL AND lost_on IS NULL

-- :unpack  taken out before it is sent
UPDATE bottle b SET shipment_id = NULL FROM shipment s
WHERE b.bottle_id = %(bottle_id)s AND s.shipment_id = b.shipment_id AND s.sent_on IS NULL RETURNING b.sample_no, s.shipment_id

-- :send  it has left
UPDATE shipment SET sent_on = %(on)s, sent_by = %(by)s WHERE shipment_id = %(shipment_id)s AND sent_on IS NULL RETURNING number, lab_id

-- :drop_empty  a parcel without bottles is none
DELETE FROM shipment s WHERE s.shipment_id = %(shipment_id)s AND sent_on IS NULL
  AND NOT EXISTS (SELECT 1 FROM bottle b WHERE b.shipment_id = s.shipment_id) RETURNING number

-- :shipments  newest first, with how far their bottles are
SELECT sh.shipment_id, sh.number, sh.made_on, sh.sent_on, sh.told_at, sh.trouble, sh.note, sh.made_by, sh.sent_by, l.name AS lab, l.way,
       l.usual_days, count(b.bottle_id) AS bottles,
       count(s.sample_id) AS reported,
       count(*) FILTER (WHERE b.received_on IS NOT NULL OR s.received_on IS NOT NULL) AS received,
       count(*) FILTER (WHERE b.lost_on IS NOT NULL) AS lost,
       (sh.sent_on IS NOT NULL AND count(s.sample_id) + count(*) FILTER (WHERE b.lost_on IS NOT NULL) < count(b.bottle_id)
        AND %(today)s::date - sh.sent_on > l.usual_days) AS late
FROM shipment sh JOIN lab l ON l.lab_id = sh.lab_id
LEFT JOIN bottle b ON b.shipment_id = sh.shipment_id
LEFT JOIN sample s ON s.sample_no = b.sample_no AND s.superseded_by IS NULL AND s.compartment_id IS NOT DISTINCT FROM b.compartment_id
WHERE %(shipment_id)s::bigint IS NULL OR sh.shipment_id = %(shipment_id)s
GROUP BY sh.fleet_id, sh.shipment_id, l.name, l.way, l.usual_days
ORDER BY sh.sent_on DESC NULLS FIRST, sh.shipment_id DESC LIMIT 60

-- :to_tell  parcels on their way that the lab has not been told of
SELECT sh.shipment_id, sh.number, sh.sent_on, sh.note FROM shipment sh
WHERE sh.lab_id = %(lab_id)s AND sh.sent_on IS NOT NULL AND sh.told_at IS NULL ORDER BY sh.shipment_id

-- :told  the lab knows of the parcel, or why not
UPDATE shipment SET told_at = CASE WHEN %(trouble)s = '' THEN now() END, trouble = %(trouble)s WHERE shipment_id = %(shipment_id)s

-- :parcel_trouble  a lab that cannot be asked about one parcel
UPDATE shipment SET trouble = %(trouble)s WHERE shipment_id = %(shipment_id)s

-- :awaited  parcels told of whose bottles the lab has not all received
SELECT sh.shipment_id, sh.number FROM shipment sh
WHERE sh.lab_id = %(lab_id)s AND sh.told_at IS NOT NULL
  AND EXISTS (SELECT 1 FROM bottle b WHERE b.shipment_id = sh.shipment_id AND b.received_on IS NULL AND b.lost_on IS NULL
              AND NOT EXISTS (SELECT 1 FROM sample s WHERE s.sample_no = b.sample_no AND s.superseded_by IS NULL
                              AND s.compartment_id IS NOT DISTINCT FROM b.compartment_id))

-- :receive  the lab has it
UPDATE bottle SET received_on = %(on)s WHERE sample_no = %(sample_no)s AND received_on IS NULL RETURNING bottle_id

-- :lose  given up, with the reason
UPDATE bottle SET lost_on = %(on)s, lost_why = %(why)s, lost_by = %(by)s WHERE bottle_id = %(bottle_id)s AND lost_on IS NULL RETURNING sample_no

-- :find_again  a bottle given up has turned up
UPDATE bottle SET lost_on = NULL, lost_why = '', lost_by = NULL WHERE bottle_id = %(bottle_id)s AND lost_on IS NOT NULL RETURNING sample_no

-- :silent_drains  drains of the last weeks that no bottle, number or sample belongs to
-- (the days near a drain are worked out first: an index of guarded rows is only searched by what is there already; a compartment's last
-- sample, which stands beside it, answers for most)
SELECT d.drain_id, d.on_day, u.name AS unit, c.name AS compartment, c.compartment_id
FROM (SELECT o.fleet_id, o.drain_id, o.compartment_id, o.on_day, o.on_day - 3 AS early, o.on_day + 3 AS late
      FROM drain o LEFT JOIN standing w USING (fleet_id, compartment_id)
      WHERE o.superseded_by IS NULL AND o.on_day BETWEEN %(today)s::date - 45 AND %(today)s::date AND o.sample_no IS NULL
        AND coalesce(w.last_sampled_on NOT BETWEEN o.on_day - 3 AND o.on_day + 3, true) OFFSET 0) d
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
WHERE NOT EXISTS (SELECT 1 FROM bottle b WHERE b.fleet_id = d.fleet_id AND b.compartment_id = d.compartment_id
                  AND b.drawn_on BETWEEN d.early AND d.late)
  AND NOT EXISTS (SELECT 1 FROM sample s WHERE s.fleet_id = d.fleet_id AND s.compartment_id = d.compartment_id
                  AND s.superseded_by IS NULL AND s.sampled_on BETWEEN d.early AND d.late)
ORDER BY d.on_day DESC LIMIT 40

-- :waiting_counts  what the inbox has to do, for its headline and the other screens
SELECT (SELECT count(*) FROM hold h WHERE h.settled_at IS NULL) AS holds,
       (SELECT count(*) FROM held_row h WHERE h.resolved_at IS NULL) AS rows,
       (SELECT count(*) FROM import_file f WHERE f.state = 'mapping') AS mapping,
       (SELECT count(*) FROM import_file f WHERE f.state IN ('waiting', 'reading')) AS reading

-- :late_samples  drawn and sent, and no result within the lab's usual days; longest first
SELECT b.sample_no, b.compartment_id, u.name AS unit, c.name AS compartment, sh.sent_on, l.name AS lab
FROM bottle b JOIN shipment sh ON sh.fleet_id = b.fleet_id AND sh.shipment_id = b.shipment_id
JOIN lab l ON l.fleet_id = sh.fleet_id AND l.lab_id = sh.lab_id
JOIN compartment c ON c.fleet_id = b.fleet_id AND c.compartment_id = b.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE b.lost_on IS NULL AND %(today)s::date - sh.sent_on > l.usual_days AND NOT EXISTS (
    SELECT 1 FROM sample s WHERE s.fleet_id = b.fleet_id AND s.sample_no = b.sample_no AND s.superseded_by IS NULL
      AND s.compartment_id IS NOT DISTINCT FROM b.compartment_id)
ORDER BY sh.sent_on, b.bottle_id LIMIT 40
