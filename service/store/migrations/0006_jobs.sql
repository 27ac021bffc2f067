-- Several jobs, each with revisions that are numbered from 1, recordings and drafts. What was kept before belongs to one.
CREATE TABLE jobs (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  name    TEXT NOT NULL UNIQUE,
  created INTEGER NOT NULL, -- nanoseconds since 1970
  sum     BLOB NOT NULL
);
INSERT INTO jobs (id, name, created, sum)
  SELECT 1, 'job', 0, x'' WHERE EXISTS (SELECT 1 FROM revisions) OR EXISTS (SELECT 1 FROM recordings) OR EXISTS (SELECT 1 FROM drafts);
CREATE TABLE new_revisions (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  job      INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
  number   INTEGER NOT NULL,
  title    TEXT NOT NULL,
  note     TEXT NOT NULL,
  created  INTEGER NOT NULL, -- nanoseconds since 1970
  inputs   INTEGER NOT NULL,
  outputs  INTEGER NOT NULL,
  rules    INTEGER NOT NULL,
  warnings INTEGER NOT NULL,
  content  BLOB NOT NULL, -- the checksum of the sheets
  sum      BLOB NOT NULL,
  UNIQUE (job, number)
);
INSERT INTO new_revisions (id, job, number, title, note, created, inputs, outputs, rules, warnings, content, sum)
  SELECT number, 1, number, title, note, created, inputs, outputs, rules, warnings, content, sum FROM revisions;
DROP TABLE revisions;
ALTER TABLE new_revisions RENAME TO revisions;
CREATE TABLE new_sheets (
  revision INTEGER NOT NULL REFERENCES revisions (id) ON DELETE CASCADE,
  position INTEGER NOT NULL,
  name     TEXT NOT NULL,
  text     BLOB NOT NULL,
  sum      BLOB NOT NULL,
  PRIMARY KEY (revision, position)
) WITHOUT ROWID;
INSERT INTO new_sheets (revision, position, name, text, sum) SELECT revision, position, name, text, sum FROM sheets;
DROP TABLE sheets;
ALTER TABLE new_sheets RENAME TO sheets;
CREATE TABLE new_recordings (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  job        INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
  name       TEXT NOT NULL,
  uploaded   INTEGER NOT NULL,
  start      INTEGER NOT NULL,
  "end"      INTEGER NOT NULL,
  "rows"     INTEGER NOT NULL,
  elapsed    INTEGER NOT NULL,
  "offset"   INTEGER NOT NULL, -- seconds east of UTC
  notes      TEXT NOT NULL,    -- a JSON array
  zone       TEXT NOT NULL,    -- in which its local times stood; empty where times said it themselves
  understood TEXT NOT NULL,    -- how the file was understood
  file       BLOB NOT NULL,    -- the SHA-256 of the file that it was read from; empty where that is not known
  sum        BLOB NOT NULL,
  UNIQUE (job, name)
);
INSERT INTO new_recordings (id, job, name, uploaded, start, "end", "rows", elapsed, "offset", notes, zone, understood, file, sum)
  SELECT id, 1, name, uploaded, start, "end", "rows", elapsed, "offset", notes, zone, understood, x'', sum FROM recordings;
DROP TABLE recordings;
ALTER TABLE new_recordings RENAME TO recordings;
CREATE TABLE new_drafts (
  job    INTEGER NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
  owner  TEXT NOT NULL,
  base   INTEGER NOT NULL, -- the number of the revision that it began from
  saved  INTEGER NOT NULL, -- nanoseconds since 1970
  sheets BLOB NOT NULL,    -- a JSON array of names and texts
  sum    BLOB NOT NULL,
  PRIMARY KEY (job, owner)
) WITHOUT ROWID;
INSERT INTO new_drafts (job, owner, base, saved, sheets, sum) SELECT 1, owner, base, saved, sheets, sum FROM drafts;
DROP TABLE drafts;
ALTER TABLE new_drafts RENAME TO drafts;
-- The recordings that the trials of a revision play, by the paths that are written there.
CREATE TABLE plays (
  revision  INTEGER NOT NULL REFERENCES revisions (id) ON DELETE CASCADE,
  path      TEXT NOT NULL,
  recording INTEGER NOT NULL REFERENCES recordings (id),
  PRIMARY KEY (revision, path)
) WITHOUT ROWID;
CREATE INDEX plays_of_recordings ON plays (recording);
-- What came of the trials of a revision when they were last played.
CREATE TABLE trial_results (
  revision INTEGER NOT NULL REFERENCES revisions (id) ON DELETE CASCADE,
  trial    TEXT NOT NULL,
  played   INTEGER NOT NULL, -- nanoseconds since 1970
  passed   INTEGER NOT NULL,
  result   BLOB NOT NULL,    -- JSON
  sum      BLOB NOT NULL,
  PRIMARY KEY (revision, trial)
) WITHOUT ROWID;
