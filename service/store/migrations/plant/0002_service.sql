-- How long an output had been on when somebody last saw to it.
ALTER TABLE figures ADD COLUMN serviced_ns INTEGER NOT NULL DEFAULT 0;
