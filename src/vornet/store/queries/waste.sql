-- :by_month  oil out, handed over, poured and topped up, and filters, of each depot and month of some days
SELECT coalesce(d.name, '') AS depot, to_char(x.on_day, 'YYYY-MM') AS month, sum(x.drains)::int AS drains, sum(x.out_l) AS out_l,
       sum(x.unmeasured)::int AS unmeasured, sum(x.handed_l) AS handed_l, sum(x.poured_l) AS poured_l, sum(x.topped_l) AS topped_l,
       sum(x.filters)::int AS filters
FROM (
    SELECT r.compartment_id, r.on_day, 1 AS drains, coalesce(r.volume_out_l, 0) AS out_l, (r.volume_out_l IS NULL)::int AS unmeasured,
           0.0 AS handed_l, coalesce(r.volume_in_l, 0) AS poured_l, 0.0 AS topped_l,
           CASE WHEN r.filter_changed THEN coalesce((SELECT sum(coalesce((f ->> 'count')::int, 1)) FROM compartment c,
               jsonb_array_elements(coalesce(c.facts -> 'filters', '[]')) f
               WHERE c.fleet_id = r.fleet_id AND c.compartment_id = r.compartment_id), 1) ELSE 0 END AS filters
    FROM drain r WHERE r.superseded_by IS NULL AND r.on_day BETWEEN %(since)s AND %(until)s
    UNION ALL
    SELECT t.compartment_id, t.on_day, 0, 0, 0, 0, 0, t.litres, 0 FROM top_up t
    WHERE t.superseded_by IS NULL AND t.on_day BETWEEN %(since)s AND %(until)s
    UNION ALL
    SELECT w.compartment_id, w.on_day, 0, 0, 0, w.litres, 0, 0, 0 FROM waste w WHERE w.on_day BETWEEN %(since)s AND %(until)s) x
JOIN compartment c USING (compartment_id) JOIN unit u USING (fleet_id, unit_id) LEFT JOIN depot d USING (fleet_id, depot_id)
GROUP BY 1, 2 ORDER BY 1, 2

-- :handed  what was handed over, into what, newest first
SELECT w.on_day, w.litres, w.handed_to, w.recorded_by, u.name AS unit, c.name AS compartment, coalesce(d.name, '') AS depot
FROM waste w JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
LEFT JOIN depot d USING (fleet_id, depot_id) WHERE w.on_day BETWEEN %(since)s AND %(until)s
ORDER BY w.on_day DESC, w.waste_id DESC LIMIT 5000
