-- Points of strokes and brushed lines, each stored once under a hash of what they are; recipes refer to them.
CREATE TABLE painted (
    hash   TEXT PRIMARY KEY,
    points BLOB NOT NULL
) WITHOUT ROWID;
