-- A depot may keep another time than its fleet: what is entered there is of its own day. NULL: the fleet's zone.
ALTER TABLE depot ADD COLUMN zone text CHECK (zone <> '');

-- Nobody asks for a sample by what was measured; to learn how often each figure occurs took most of what a large file's statistics cost.
ALTER TABLE sample ALTER COLUMN values SET STATISTICS 0;
