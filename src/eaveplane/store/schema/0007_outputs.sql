-- What is told of a delivered file: size, density, where its pixels come from.
ALTER TABLE result ADD COLUMN told TEXT NOT NULL DEFAULT '{}';

-- Outputs that are written together, under a name; `used` counts up, so that the last one can be offered again.
CREATE TABLE output_set (
    name TEXT PRIMARY KEY,
    outputs TEXT NOT NULL,
    used INTEGER NOT NULL DEFAULT 0
);

-- Many scenes done one after the other: the jobs of a run, and what was to be carried out.
CREATE TABLE run (
    id        INTEGER PRIMARY KEY,
    outing_id INTEGER NOT NULL REFERENCES outing (id) ON DELETE CASCADE,
    what      TEXT NOT NULL DEFAULT '',
    created   TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
CREATE TABLE run_scene (
    run_id   INTEGER NOT NULL REFERENCES run (id) ON DELETE CASCADE,
    scene_id INTEGER NOT NULL REFERENCES scene (id) ON DELETE CASCADE,
    job_id   INTEGER NOT NULL,
    told     TEXT NOT NULL DEFAULT '{}',
    PRIMARY KEY (run_id, scene_id)
);
