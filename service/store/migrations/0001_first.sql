CREATE TABLE revisions (
  number   INTEGER PRIMARY KEY AUTOINCREMENT,
  title    TEXT NOT NULL,
  note     TEXT NOT NULL,
  created  INTEGER NOT NULL, -- nanoseconds since 1970
  inputs   INTEGER NOT NULL,
  outputs  INTEGER NOT NULL,
  rules    INTEGER NOT NULL,
  warnings INTEGER NOT NULL
);

CREATE TABLE sheets (
  revision INTEGER NOT NULL REFERENCES revisions (number) ON DELETE CASCADE,
  position INTEGER NOT NULL,
  name     TEXT NOT NULL,
  text     BLOB NOT NULL,
  PRIMARY KEY (revision, position)
) WITHOUT ROWID;

CREATE TABLE recordings (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  name     TEXT NOT NULL UNIQUE,
  uploaded INTEGER NOT NULL,
  start    INTEGER NOT NULL,
  "end"    INTEGER NOT NULL,
  "rows"   INTEGER NOT NULL,
  elapsed  INTEGER NOT NULL,
  "offset" INTEGER NOT NULL, -- seconds east of UTC
  notes    TEXT NOT NULL     -- a JSON array
);

CREATE TABLE columns (
  id          INTEGER PRIMARY KEY AUTOINCREMENT,
  recording   INTEGER NOT NULL REFERENCES recordings (id) ON DELETE CASCADE,
  position    INTEGER NOT NULL,
  name        TEXT NOT NULL,
  unit        TEXT NOT NULL,
  word        TEXT NOT NULL, -- the first cell that was a word; empty if none was
  word_line   INTEGER NOT NULL,
  word_column INTEGER NOT NULL,
  UNIQUE (recording, position)
);

CREATE TABLE blocks (
  "column" INTEGER NOT NULL REFERENCES columns (id) ON DELETE CASCADE,
  first    INTEGER NOT NULL, -- the time of the first reading
  last     INTEGER NOT NULL,
  readings INTEGER NOT NULL,
  min      REAL, -- of the good readings; null if there is none
  max      REAL,
  any_bad  INTEGER NOT NULL,
  data     BLOB NOT NULL, -- the encoded block, compressed with zstd
  PRIMARY KEY ("column", first)
) WITHOUT ROWID;
