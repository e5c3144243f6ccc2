-- The day as of which the whole fleet was last judged. With every new day it is judged again: oil ages by the calendar and by estimate,
-- and what was approved from a day on begins, whether or not anybody records anything.
ALTER TABLE fleet ADD COLUMN judged_on date;
GRANT UPDATE (judged_on) ON fleet TO vornet_app;

CREATE FUNCTION fleets_by_day() RETURNS TABLE (fleet_id integer, zone text, judged_on date)
    LANGUAGE sql STABLE SECURITY DEFINER SET search_path = public, pg_temp
    AS 'SELECT f.fleet_id, f.zone, f.judged_on FROM fleet f
        WHERE EXISTS (SELECT 1 FROM compartment c WHERE c.fleet_id = f.fleet_id) ORDER BY f.fleet_id';
REVOKE ALL ON FUNCTION fleets_by_day() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION fleets_by_day() TO vornet_app;
