-- Runs that come by themselves or bring their pictures along.
ALTER TABLE runs ADD COLUMN watch_id INTEGER;
-- Folder of pictures that were brought for this run alone.
ALTER TABLE runs ADD COLUMN brought TEXT;
-- What was said before it began, a JSON list of texts.
ALTER TABLE runs ADD COLUMN warnings TEXT NOT NULL DEFAULT '[]';
-- Whether what follows its end (a command, an address) was begun.
ALTER TABLE runs ADD COLUMN called INTEGER NOT NULL DEFAULT 0;
UPDATE runs SET called = 1 WHERE state IN ('done', 'cancelled');

-- A recipe that runs on whatever arrives in a folder.
CREATE TABLE watches (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    recipe_id INTEGER,
    recipe_version INTEGER NOT NULL,
    document TEXT NOT NULL,
    folder TEXT NOT NULL,
    deep INTEGER NOT NULL DEFAULT 0,
    target TEXT,
    -- HH:MM of this machine's clock; without one at once.
    daily TEXT,
    hook TEXT,
    state TEXT NOT NULL DEFAULT 'on' CHECK (state IN ('on', 'paused')),
    made TEXT NOT NULL,
    -- When a daily one last had its turn.
    turn TEXT,
    problem TEXT
);
-- What it has taken into a run; a file is known by where it lies, its length and its time.
CREATE TABLE arrivals (
    watch_id INTEGER NOT NULL REFERENCES watches(id) ON DELETE CASCADE,
    path TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    modified INTEGER NOT NULL,
    device INTEGER NOT NULL,
    inode INTEGER NOT NULL,
    run_id INTEGER NOT NULL,
    position INTEGER NOT NULL,
    PRIMARY KEY (watch_id, path, bytes, modified)
);
-- For scripts: only a hash is kept.
CREATE TABLE tokens (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    hash TEXT NOT NULL UNIQUE,
    made TEXT NOT NULL,
    used TEXT
);
-- People who gave the passphrase.
CREATE TABLE sessions (
    hash TEXT PRIMARY KEY,
    ends TEXT NOT NULL
);
-- Versions of recipes that were looked at as a proof.
CREATE TABLE proofs (
    recipe_id INTEGER PRIMARY KEY,
    version INTEGER NOT NULL,
    seen TEXT NOT NULL
);
-- Further results of a picture, a JSON list of paths.
ALTER TABLE run_items ADD COLUMN more TEXT NOT NULL DEFAULT '[]';
-- Runs are counted often.
CREATE INDEX run_items_counts ON run_items (run_id, state, pixels, worker);
