CREATE TABLE outing (
    id      INTEGER PRIMARY KEY,
    name    TEXT NOT NULL,
    folder  TEXT NOT NULL,
    created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

-- One row a file of an outing. The content's hash is what makes a frame; two files of one name are two.
CREATE TABLE file (
    id        INTEGER PRIMARY KEY,
    outing_id INTEGER NOT NULL REFERENCES outing (id) ON DELETE CASCADE,
    path      TEXT NOT NULL,
    -- what its owner calls it; uploads are stored under names of our own
    name      TEXT NOT NULL,
    sha256    TEXT,
    width     INTEGER,
    height    INTEGER,
    kind      TEXT,
    meta      TEXT NOT NULL DEFAULT '{}',
    problem   TEXT,
    UNIQUE (outing_id, path)
);
CREATE INDEX file_by_hash ON file (sha256);

CREATE TABLE scene (
    id        INTEGER PRIMARY KEY,
    outing_id INTEGER NOT NULL REFERENCES outing (id) ON DELETE CASCADE,
    name      TEXT NOT NULL,
    current   INTEGER NOT NULL DEFAULT 0,
    registered TEXT,
    woven     TEXT,
    created   TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);

-- Every decision is a whole recipe; undo is an earlier one.
CREATE TABLE decision (
    scene_id INTEGER NOT NULL REFERENCES scene (id) ON DELETE CASCADE,
    number   INTEGER NOT NULL,
    what     TEXT NOT NULL,
    recipe   TEXT NOT NULL,
    made     TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
    PRIMARY KEY (scene_id, number)
);

CREATE TABLE job (
    id        INTEGER PRIMARY KEY,
    kind      TEXT NOT NULL CHECK (kind IN ('bring_in', 'register', 'weave', 'deliver')),
    outing_id INTEGER REFERENCES outing (id) ON DELETE CASCADE,
    scene_id  INTEGER REFERENCES scene (id) ON DELETE CASCADE,
    arguments TEXT NOT NULL DEFAULT '{}',
    state     TEXT NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'running', 'done', 'failed', 'cancelled')),
    cancel    INTEGER NOT NULL DEFAULT 0,
    what      TEXT NOT NULL DEFAULT '',
    share     REAL NOT NULL DEFAULT 0,
    -- millions of pixels that it goes through, so that the next one's time can be told
    megapixels REAL NOT NULL DEFAULT 0,
    message   TEXT NOT NULL DEFAULT '',
    created   TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
    started   REAL,
    ended     REAL
);
CREATE INDEX job_by_state ON job (state);

CREATE TABLE result (
    id       INTEGER PRIMARY KEY,
    scene_id INTEGER NOT NULL REFERENCES scene (id) ON DELETE CASCADE,
    path     TEXT NOT NULL,
    recipe   TEXT NOT NULL,
    made     TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
