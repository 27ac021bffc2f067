-- The zone in which a recording's local times stood; empty where times said it themselves.
ALTER TABLE recordings ADD COLUMN zone TEXT NOT NULL DEFAULT '';
-- How the file was understood.
ALTER TABLE recordings ADD COLUMN understood TEXT NOT NULL DEFAULT '';
