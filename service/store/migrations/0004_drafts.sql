-- What somebody has written and not kept as a revision.
CREATE TABLE drafts (
  owner  TEXT PRIMARY KEY,
  base   INTEGER NOT NULL, -- the revision that it began from
  saved  INTEGER NOT NULL, -- nanoseconds since 1970
  sheets BLOB NOT NULL     -- a JSON array of names and texts
) WITHOUT ROWID;
