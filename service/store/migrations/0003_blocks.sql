-- Blocks are rows of their own: in the tree of an index, every search reads whole blocks.
CREATE TABLE kept (
  id       INTEGER PRIMARY KEY,
  "column" INTEGER NOT NULL REFERENCES columns (id) ON DELETE CASCADE,
  first    INTEGER NOT NULL, -- the time of the first reading
  last     INTEGER NOT NULL,
  readings INTEGER NOT NULL,
  min      REAL, -- of the good readings; null if there is none
  max      REAL,
  any_bad  INTEGER NOT NULL,
  data     BLOB NOT NULL, -- the encoded block, compressed with zstd
  UNIQUE ("column", first)
);
INSERT INTO kept ("column", first, last, readings, min, max, any_bad, data)
  SELECT "column", first, last, readings, min, max, any_bad, data FROM blocks;
DROP TABLE blocks;
ALTER TABLE kept RENAME TO blocks;
-- A column knows the figures of all its blocks.
ALTER TABLE columns ADD COLUMN readings INTEGER NOT NULL DEFAULT 0;
ALTER TABLE columns ADD COLUMN min REAL;
ALTER TABLE columns ADD COLUMN max REAL;
ALTER TABLE columns ADD COLUMN bytes INTEGER NOT NULL DEFAULT 0;
UPDATE columns SET
  readings = (SELECT COALESCE(SUM(readings), 0) FROM blocks WHERE "column" = columns.id),
  min = (SELECT MIN(min) FROM blocks WHERE "column" = columns.id),
  max = (SELECT MAX(max) FROM blocks WHERE "column" = columns.id),
  bytes = (SELECT COALESCE(SUM(LENGTH(data)), 0) FROM blocks WHERE "column" = columns.id);
