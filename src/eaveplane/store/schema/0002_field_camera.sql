-- The field camera's work is a job like others; SQLite changes a check by making the table anew.
CREATE TABLE job_anew (
    id        INTEGER PRIMARY KEY,
    kind      TEXT NOT NULL CHECK (kind IN ('bring_in', 'register', 'weave', 'deliver', 'shoot', 'inspect')),
    outing_id INTEGER REFERENCES outing (id) ON DELETE CASCADE,
    scene_id  INTEGER REFERENCES scene (id) ON DELETE CASCADE,
    arguments TEXT NOT NULL DEFAULT '{}',
    state     TEXT NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled')),
    cancel    INTEGER NOT NULL DEFAULT 0,
    what      TEXT NOT NULL DEFAULT '',
    share     REAL NOT NULL DEFAULT 0,
    megapixels REAL NOT NULL DEFAULT 0,
    message   TEXT NOT NULL DEFAULT '',
    created   TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
    started   REAL,
    ended     REAL
);
INSERT INTO job_anew SELECT id, kind, outing_id, scene_id, arguments, state, cancel, what, share, megapixels, message, created, started, ended FROM job;
DROP TABLE job;
ALTER TABLE job_anew RENAME TO job;
CREATE INDEX job_by_state ON job (state);
