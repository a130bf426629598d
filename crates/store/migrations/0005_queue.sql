-- Runs can be paused, put in another order, asked for later, and wait for a yes; a picture in work is on loan to one worker.
-- Both tables are made anew because states are checked.
CREATE TABLE runs_2 (
    id INTEGER PRIMARY KEY,
    recipe_id INTEGER,
    recipe_version INTEGER NOT NULL,
    document TEXT NOT NULL,
    shoot_id INTEGER,
    shoot_name TEXT NOT NULL,
    base TEXT NOT NULL,
    state TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'paused', 'asking', 'done', 'cancelled')),
    created TEXT NOT NULL,
    started TEXT,
    finished TEXT,
    seconds REAL NOT NULL DEFAULT 0,
    place REAL NOT NULL DEFAULT 0,
    not_before TEXT,
    stage INTEGER NOT NULL DEFAULT 0,
    most_failures INTEGER,
    reason TEXT,
    held TEXT,
    origin TEXT NOT NULL DEFAULT 'page',
    hook TEXT
);
INSERT INTO runs_2 (id, recipe_id, recipe_version, document, shoot_id, shoot_name, base, state, created, started, finished, seconds)
    SELECT id, recipe_id, recipe_version, document, shoot_id, shoot_name, base, state, created, started, finished, seconds FROM runs;
UPDATE runs_2 SET place = id;
CREATE TABLE run_items_2 (
    run_id INTEGER NOT NULL REFERENCES runs_2(id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    source TEXT NOT NULL,
    target TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'failed', 'skipped')),
    kind TEXT,
    reason TEXT,
    outputs TEXT,
    source_bytes INTEGER NOT NULL,
    pixels INTEGER NOT NULL DEFAULT 0,
    seconds REAL,
    decided TEXT NOT NULL DEFAULT '{}',
    answers TEXT NOT NULL DEFAULT '[]',
    worker TEXT,
    lease INTEGER,
    tries INTEGER NOT NULL DEFAULT 0,
    ended INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (run_id, position)
);
INSERT INTO run_items_2 (run_id, position, source, target, state, reason, outputs, source_bytes, seconds, decided)
    SELECT run_id, position, source, target, state, reason, outputs, source_bytes, seconds, decided FROM run_items;
DROP TABLE run_items;
DROP TABLE runs;
ALTER TABLE runs_2 RENAME TO runs;
ALTER TABLE run_items_2 RENAME TO run_items;
CREATE INDEX run_items_source ON run_items (source, state);
CREATE INDEX run_items_waiting ON run_items (run_id, position) WHERE state = 'waiting';
CREATE INDEX run_items_ended ON run_items (run_id, ended);
-- What was written, with the hash of its bytes: an altered result is known as such.
CREATE TABLE results (
    path TEXT PRIMARY KEY,
    hash TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    run_id INTEGER
);
