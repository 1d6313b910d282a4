-- Copied files remember where they came from; scenes whether their beginning is uncertain, and their last inspection:
-- [key, frame ids from near to far].
ALTER TABLE file ADD COLUMN origin TEXT NOT NULL DEFAULT '';
ALTER TABLE scene ADD COLUMN doubtful INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scene ADD COLUMN inspected TEXT;
