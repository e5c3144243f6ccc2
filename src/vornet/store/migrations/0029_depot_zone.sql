-- A depot may keep another time than its fleet: what is entered there is of its own day. NULL: the fleet's zone.
ALTER TABLE depot ADD COLUMN zone text CHECK (zone <> '');
