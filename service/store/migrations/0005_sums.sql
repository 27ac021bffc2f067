-- Checksums, verified whenever something is read; the store works them out for what is there already.
ALTER TABLE revisions ADD COLUMN content BLOB NOT NULL DEFAULT x''; -- of the sheets
ALTER TABLE revisions ADD COLUMN sum BLOB NOT NULL DEFAULT x'';
ALTER TABLE sheets ADD COLUMN sum BLOB NOT NULL DEFAULT x'';
ALTER TABLE recordings ADD COLUMN sum BLOB NOT NULL DEFAULT x'';
ALTER TABLE columns ADD COLUMN sum BLOB NOT NULL DEFAULT x'';
ALTER TABLE blocks ADD COLUMN sum INTEGER NOT NULL DEFAULT 0;
ALTER TABLE drafts ADD COLUMN sum BLOB NOT NULL DEFAULT x'';
