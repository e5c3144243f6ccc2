-- :in_force  the latest signed weights of each family
SELECT DISTINCT ON (family) family, factors, effective_from, signed_by FROM sign_weights
WHERE effective_from <= %(today)s ORDER BY family, weights_id DESC

-- :versions  signed so far, newest first
SELECT weights_id, family, effective_from, factors, changed, past, why, signed_by, signed_at FROM sign_weights
ORDER BY weights_id DESC LIMIT %(limit)s

-- :put  a signed version of a family's weights
INSERT INTO sign_weights (fleet_id, family, effective_from, factors, changed, past, why, signed_by)
VALUES (%(fleet_id)s, %(family)s, %(on)s, %(factors)s, %(changed)s, %(past)s, %(why)s, %(by)s)

-- :lock  nobody signs on another's weights unseen
SELECT pg_advisory_xact_lock(hashtext('sign weights'), %(fleet_id)s)

-- :approved_charges  charges that began under an approved interval and have ended, newest first: how long each was meant to run
-- and ran, and what was reckoned at its approval
SELECT d.compartment_id, d.on_day AS ended_on, before.on_day AS filled_on, d.meter - before.meter AS ran, i.meter AS meant,
       (i.evidence ->> 'chance_at_approved')::float8 AS chance, (i.evidence ->> 'safe')::float8 AS safe, i.effective_from,
       u.name AS unit, c.name AS compartment, c.counts
FROM drain d
JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u USING (fleet_id, unit_id)
JOIN LATERAL (SELECT p.on_day, p.meter FROM drain p WHERE p.fleet_id = d.fleet_id AND p.compartment_id = d.compartment_id
              AND p.superseded_by IS NULL AND (p.on_day, p.drain_id) < (d.on_day, d.drain_id) ORDER BY p.on_day DESC, p.drain_id DESC LIMIT 1)
     before ON true
JOIN LATERAL (SELECT f.value AS meter, v.evidence, f.from_day AS effective_from FROM in_force f JOIN drain_interval v USING (fleet_id, interval_id)
              WHERE f.fleet_id = d.fleet_id AND f.compartment_id = d.compartment_id AND f.fact = 'length' AND f.state IN ('stands', 'stood')
                AND f.from_day <= before.on_day AND (f.until_day IS NULL OR f.until_day > before.on_day) AND f.origin = 'approved') i ON true
WHERE d.superseded_by IS NULL ORDER BY d.on_day DESC LIMIT %(limit)s
