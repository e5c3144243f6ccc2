-- :fleets  fleets that tell somebody
SELECT fleet_id FROM fleets_with_webhooks()

-- :hooks  addresses that are told, with how it goes
SELECT w.webhook_id, w.address, w.events, w.secret, w.last_sample, w.last_verdict, w.made_by, w.made_at,
       (SELECT count(*) FROM webhook_delivery d WHERE d.webhook_id = w.webhook_id AND d.state = 'waits') AS waits,
       (SELECT count(*) FROM webhook_delivery d WHERE d.webhook_id = w.webhook_id AND d.state = 'told') AS told,
       (SELECT count(*) FROM webhook_delivery d WHERE d.webhook_id = w.webhook_id AND d.state = 'given up') AS given_up
FROM webhook w ORDER BY w.webhook_id

-- :put  a new one; what there is already is not news to it
INSERT INTO webhook (fleet_id, address, events, secret, made_by, last_sample, last_verdict)
VALUES (%(fleet_id)s, %(address)s, %(events)s, %(secret)s, %(by)s, (SELECT coalesce(max(sample_id), 0) FROM sample),
        (SELECT coalesce(max(verdict_id), 0) FROM verdict))
RETURNING webhook_id

-- :remove  it is told nothing more
DELETE FROM webhook WHERE webhook_id = %(webhook_id)s RETURNING address

-- :new_samples  results since
SELECT s.sample_id, s.sample_no, s.compartment_id, u.name AS unit, c.name AS compartment, s.sampled_on, s.lab, s.reported_on
FROM sample s LEFT JOIN compartment c USING (fleet_id, compartment_id) LEFT JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE s.sample_id > %(since)s AND s.superseded_by IS NULL ORDER BY s.sample_id LIMIT 1000

-- :new_verdicts  signed since
SELECT v.verdict_id, v.sample_id, s.sample_no, v.compartment_id, u.name AS unit, c.name AS compartment, v.verdict, v.proposed, v.cause,
       v.comment, v.signed_by, v.signed_at
FROM verdict v JOIN sample s USING (fleet_id, sample_id) JOIN compartment c ON c.fleet_id = v.fleet_id AND c.compartment_id = v.compartment_id
JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE v.verdict_id > %(since)s ORDER BY v.verdict_id LIMIT 1000

-- :open_holds  samples held now
SELECT h.hold_id, h.sample_id, s.sample_no, s.compartment_id, h.reason FROM hold h JOIN sample s USING (fleet_id, sample_id)
WHERE h.settled_at IS NULL AND s.superseded_by IS NULL ORDER BY h.hold_id LIMIT 5000

-- :due  compartments that are due or over
SELECT x.compartment_id, u.name AS unit, c.name AS compartment, x.due_day, x.due_meter, x.due_driver, c.counts
FROM standing x JOIN compartment c USING (fleet_id, compartment_id) JOIN unit u ON u.fleet_id = c.fleet_id AND u.unit_id = c.unit_id
WHERE u.state = 'in_service' AND (x.due_day <= %(today)s OR x.to_due <= 0) ORDER BY x.compartment_id LIMIT 5000

-- :put_delivery  once for each thing that happened
INSERT INTO webhook_delivery (fleet_id, webhook_id, event, about, body, state)
VALUES (%(fleet_id)s, %(webhook_id)s, %(event)s, %(about)s, %(body)s, %(state)s) ON CONFLICT (fleet_id, webhook_id, about) DO NOTHING

-- :told_up_to  results and verdicts that were put in line
UPDATE webhook SET last_sample = greatest(last_sample, %(last_sample)s), last_verdict = greatest(last_verdict, %(last_verdict)s)
WHERE webhook_id = %(webhook_id)s

-- :take_waiting  one whose time has come, kept from other workers while it is tried
UPDATE webhook_delivery d SET next_at = now() + interval '2 minutes', tries = tries + 1
FROM webhook w WHERE w.webhook_id = d.webhook_id AND d.delivery_id = (
    SELECT delivery_id FROM webhook_delivery WHERE state = 'waits' AND next_at <= now() ORDER BY next_at, delivery_id LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING d.delivery_id, d.event, d.body, d.tries, d.made_at, w.address, w.secret, w.webhook_id

-- :was_told  it answered well
UPDATE webhook_delivery SET state = 'told', told_at = now(), trouble = '' WHERE delivery_id = %(delivery_id)s

-- :was_not_told  it is tried again after so long, or given up
UPDATE webhook_delivery SET state = %(state)s, trouble = %(trouble)s, next_at = now() + make_interval(secs => %(after_s)s)
WHERE delivery_id = %(delivery_id)s

-- :deliveries  the latest, what became of each
SELECT delivery_id, webhook_id, event, about, state, tries, next_at, made_at, told_at, trouble FROM webhook_delivery
WHERE state <> 'before' ORDER BY delivery_id DESC LIMIT 60

-- :try_again  one that was given up, at once
UPDATE webhook_delivery SET state = 'waits', next_at = now(), tries = 0 WHERE delivery_id = %(delivery_id)s AND state = 'given up' RETURNING 1
