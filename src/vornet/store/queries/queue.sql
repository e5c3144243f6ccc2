-- :touch  what a fact changed; said twice it is taken off once
INSERT INTO touched (fleet_id, what, id) SELECT %(fleet_id)s, %(what)s, unnest(%(ids)s::bigint[])

-- :touch_everything  a fact that everybody rests on
INSERT INTO touched (fleet_id, what, id) SELECT fleet_id, 'compartment', compartment_id FROM compartment

-- :touch_units  every compartment of some units
INSERT INTO touched (fleet_id, what, id)
SELECT fleet_id, 'compartment', compartment_id FROM compartment WHERE unit_id = ANY(%(units)s)

-- :touched  taken off by whoever settles it
DELETE FROM touched RETURNING what, id

-- :compartments  whether everything was touched
SELECT count(*) AS n FROM compartment

-- :evaluation_waits  the same evaluation is on the queue already and nobody has begun it; kept from being begun
-- until this transaction ends, or what it recorded would be judged by nobody
SELECT 1 FROM procrastinate_jobs WHERE queueing_lock = %(lock)s AND status = 'todo' FOR UPDATE

-- :judging_all  the whole fleet's judging is on the queue, or begun
SELECT 1 FROM procrastinate_jobs WHERE task_name = %(task)s AND (args ->> 'fleet_id')::integer = %(fleet_id)s AND status IN ('todo', 'doing') LIMIT 1

-- :hold  one at a time at something, to the end of the transaction
SELECT pg_advisory_xact_lock(hashtext(%(what)s), hashtext(current_setting('vornet.fleet_id', true)))

-- :counts  jobs by their state
SELECT status::text AS state, count(*)::integer AS n FROM procrastinate_jobs GROUP BY 1
