-- What was signed is not rewritten, and a fleet is dropped by who owns the database alone. The application may add verdicts, intervals,
-- limits, policies and lines of the audit trail; of a verdict it may say that a later one stands in its place, nothing else.
REVOKE UPDATE, DELETE, TRUNCATE ON drain_interval, limit_set, policy, audit, verdict FROM vornet_app;
GRANT UPDATE (superseded_by) ON verdict TO vornet_app;
REVOKE ALL ON FUNCTION fleet_drop(integer) FROM vornet_app;
-- a link is used or ended, never made into another
REVOKE UPDATE ON invitation, password_link FROM vornet_app;
GRANT UPDATE (ended_at, account_id) ON invitation TO vornet_app;
GRANT UPDATE (used_at) ON password_link TO vornet_app;
