-- A new kind of job changes no schema: which lane carries it out, and whether it makes way, is noted with the job.
CREATE TABLE job_anew (
    id         INTEGER PRIMARY KEY,
    kind       TEXT NOT NULL,
    lane       TEXT NOT NULL DEFAULT 'work',
    background INTEGER NOT NULL DEFAULT 0,
    outing_id  INTEGER REFERENCES outing (id) ON DELETE CASCADE,
    scene_id   INTEGER REFERENCES scene (id) ON DELETE CASCADE,
    arguments  TEXT NOT NULL DEFAULT '{}',
    state      TEXT NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled')),
    cancel     INTEGER NOT NULL DEFAULT 0,
    what       TEXT NOT NULL DEFAULT '',
    share      REAL NOT NULL DEFAULT 0,
    megapixels REAL NOT NULL DEFAULT 0,
    message    TEXT NOT NULL DEFAULT '',
    created    TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
    started    REAL,
    ended      REAL
);
INSERT INTO job_anew (id, kind, lane, background, outing_id, scene_id, arguments, state, cancel, what, share, megapixels, message, created, started, ended)
    SELECT id, kind, CASE kind WHEN 'shoot' THEN 'camera' ELSE 'work' END, kind = 'inspect', outing_id, scene_id, arguments, state, cancel, what, share, megapixels, message, created, started, ended FROM job;
DROP TABLE job;
ALTER TABLE job_anew RENAME TO job;
CREATE INDEX job_by_state ON job (state);
