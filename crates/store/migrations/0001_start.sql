CREATE TABLE shoots (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    folder TEXT NOT NULL UNIQUE,
    recursive INTEGER NOT NULL DEFAULT 0,
    scanned TEXT
);
CREATE TABLE frames (
    id INTEGER PRIMARY KEY,
    shoot_id INTEGER NOT NULL REFERENCES shoots(id) ON DELETE CASCADE,
    path TEXT NOT NULL,
    name TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    modified INTEGER NOT NULL,
    facts TEXT,
    problem TEXT,
    UNIQUE (shoot_id, path)
);
CREATE TABLE recipes (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    version INTEGER NOT NULL,
    document TEXT NOT NULL,
    saved TEXT NOT NULL
);
CREATE TABLE recipe_versions (
    recipe_id INTEGER NOT NULL REFERENCES recipes(id) ON DELETE CASCADE,
    version INTEGER NOT NULL,
    document TEXT NOT NULL,
    saved TEXT NOT NULL,
    PRIMARY KEY (recipe_id, version)
);
CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    recipe_id INTEGER,
    recipe_version INTEGER NOT NULL,
    document TEXT NOT NULL,
    shoot_id INTEGER,
    shoot_name TEXT NOT NULL,
    base TEXT NOT NULL,
    state TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'cancelled')),
    created TEXT NOT NULL,
    started TEXT,
    finished TEXT,
    seconds REAL NOT NULL DEFAULT 0
);
CREATE TABLE run_items (
    run_id INTEGER NOT NULL REFERENCES runs(id) ON DELETE CASCADE,
    position INTEGER NOT NULL,
    source TEXT NOT NULL,
    target TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'failed', 'skipped')),
    reason TEXT,
    outputs TEXT,
    source_bytes INTEGER NOT NULL,
    seconds REAL,
    PRIMARY KEY (run_id, position)
);
CREATE TABLE settings (key TEXT PRIMARY KEY, value TEXT NOT NULL);
