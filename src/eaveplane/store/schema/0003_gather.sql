-- Copied files remember where they came from; scenes whether their beginning is uncertain, and their last inspection:
-- [key, frame ids from near to far].
ALTER TABLE file ADD COLUMN origin TEXT NOT NULL DEFAULT '';
ALTER TABLE scene ADD COLUMN doubtful INTEGER NOT NULL DEFAULT 0;
ALTER TABLE scene ADD COLUMN inspected TEXT;

-- What was arranged by hand between the scenes of an outing: the frames of the scenes concerned before and after, as
-- {scene: [frames]}; a scene without frames is not shown.
CREATE TABLE arrangement (
    id        INTEGER PRIMARY KEY,
    outing_id INTEGER NOT NULL REFERENCES outing (id) ON DELETE CASCADE,
    what      TEXT NOT NULL,
    before    TEXT NOT NULL,
    after     TEXT NOT NULL,
    undone    INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX arrangement_of_outing ON arrangement (outing_id);

-- Looks saved under a name, to be applied to other scenes.
CREATE TABLE look (
    name TEXT PRIMARY KEY,
    look TEXT NOT NULL
);
