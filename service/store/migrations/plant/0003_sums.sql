-- Everything belongs to a job by its number, every row carries a sum, and the rows of a journal and of a capture are chained.
ALTER TABLE armed RENAME TO armed_before;
CREATE TABLE armed (
	number INTEGER PRIMARY KEY,
	name TEXT NOT NULL,
	mode TEXT NOT NULL,
	revision INTEGER NOT NULL,
	since INTEGER NOT NULL,
	fault TEXT NOT NULL,
	damage TEXT NOT NULL,
	again INTEGER NOT NULL,
	sheets BLOB NOT NULL,
	abandoned BLOB NOT NULL,
	last INTEGER NOT NULL,
	starts INTEGER NOT NULL,
	commits INTEGER NOT NULL,
	journal_first INTEGER NOT NULL,
	journal_last INTEGER NOT NULL,
	journal_bytes INTEGER NOT NULL,
	journal_sum BLOB NOT NULL,
	segment INTEGER NOT NULL,
	checkpoint INTEGER NOT NULL,
	memories BLOB NOT NULL,
	bypasses BLOB NOT NULL,
	figures BLOB NOT NULL,
	sum BLOB NOT NULL
);
ALTER TABLE memories RENAME TO memories_before;
CREATE TABLE memories (
	job INTEGER NOT NULL,
	name TEXT NOT NULL,
	kind TEXT NOT NULL,
	data BLOB NOT NULL,
	sum BLOB NOT NULL,
	PRIMARY KEY (job, name)
) WITHOUT ROWID;
ALTER TABLE bypasses RENAME TO bypasses_before;
CREATE TABLE bypasses (
	job INTEGER NOT NULL,
	name TEXT NOT NULL,
	kind TEXT NOT NULL,
	value TEXT NOT NULL,
	lock TEXT NOT NULL,
	who TEXT NOT NULL,
	why TEXT NOT NULL,
	since INTEGER NOT NULL,
	sum BLOB NOT NULL,
	PRIMARY KEY (job, name)
) WITHOUT ROWID;
DROP INDEX journal_time;
ALTER TABLE journal RENAME TO journal_before;
CREATE TABLE journal (
	job INTEGER NOT NULL,
	number INTEGER NOT NULL,
	time INTEGER NOT NULL,
	kind TEXT NOT NULL,
	name TEXT NOT NULL,
	"from" TEXT NOT NULL,
	"to" TEXT NOT NULL,
	because TEXT NOT NULL,
	who TEXT NOT NULL,
	via TEXT NOT NULL,
	before BLOB NOT NULL,
	sum BLOB NOT NULL,
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
CREATE INDEX journal_time ON journal (job, time);
DROP INDEX segments_job;
ALTER TABLE stretches RENAME TO stretches_before;
ALTER TABLE segments RENAME TO segments_before;
CREATE TABLE segments (
	id INTEGER PRIMARY KEY AUTOINCREMENT,
	job INTEGER NOT NULL,
	number INTEGER NOT NULL,
	form INTEGER NOT NULL,
	revision INTEGER NOT NULL,
	begins INTEGER NOT NULL,
	ends INTEGER NOT NULL,
	bytes INTEGER NOT NULL,
	stretches INTEGER NOT NULL,
	memory BLOB NOT NULL,
	memory_sum BLOB NOT NULL,
	chain BLOB NOT NULL,
	sum BLOB NOT NULL
);
CREATE INDEX segments_job ON segments (job, begins);
CREATE TABLE stretches (
	segment INTEGER NOT NULL REFERENCES segments (id),
	number INTEGER NOT NULL,
	events BLOB NOT NULL,
	PRIMARY KEY (segment, number)
) WITHOUT ROWID;
ALTER TABLE figures RENAME TO figures_before;
CREATE TABLE figures (
	job INTEGER NOT NULL,
	name TEXT NOT NULL,
	on_ns INTEGER NOT NULL,
	starts INTEGER NOT NULL,
	serviced_ns INTEGER NOT NULL,
	sum BLOB NOT NULL,
	PRIMARY KEY (job, name)
) WITHOUT ROWID;
CREATE TABLE revisions (
	job INTEGER NOT NULL,
	number INTEGER NOT NULL,
	sheets BLOB NOT NULL,
	sum BLOB NOT NULL,
	PRIMARY KEY (job, number)
) WITHOUT ROWID;
