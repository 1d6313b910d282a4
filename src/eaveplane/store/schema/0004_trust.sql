-- Size and time of change when a file was looked at: a file that was replaced since is looked at again.
ALTER TABLE file ADD COLUMN stamp TEXT NOT NULL DEFAULT '';
