-- A shoot is made of several places; frames carry what people decided. Tables are made anew because the folder
-- is no longer what tells shoots apart.
CREATE TABLE shoots_2 (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    base TEXT NOT NULL,
    sorted TEXT NOT NULL DEFAULT '{}',
    follow INTEGER NOT NULL DEFAULT 0,
    results INTEGER NOT NULL DEFAULT 0,
    scanned TEXT
);
INSERT INTO shoots_2 (id, name, base, scanned) SELECT id, name, folder, scanned FROM shoots;
CREATE TABLE shoot_places (
    shoot_id INTEGER NOT NULL REFERENCES shoots_2(id) ON DELETE CASCADE,
    path TEXT NOT NULL,
    deep INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (shoot_id, path)
);
INSERT INTO shoot_places SELECT id, folder, recursive FROM shoots;
CREATE TABLE frames_2 (
    id INTEGER PRIMARY KEY,
    shoot_id INTEGER NOT NULL REFERENCES shoots_2(id) ON DELETE CASCADE,
    path TEXT NOT NULL,
    name TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    modified INTEGER NOT NULL,
    facts TEXT,
    problem TEXT,
    gone INTEGER NOT NULL DEFAULT 0,
    choice INTEGER NOT NULL DEFAULT 0,
    rating INTEGER NOT NULL DEFAULT 0,
    keywords TEXT NOT NULL DEFAULT '[]',
    shift INTEGER NOT NULL DEFAULT 0,
    hand REAL,
    measures TEXT,
    UNIQUE (shoot_id, path)
);
INSERT INTO frames_2 (id, shoot_id, path, name, bytes, modified, facts, problem)
    SELECT id, shoot_id, path, name, bytes, modified, facts, problem FROM frames;
DROP TABLE frames;
DROP TABLE shoots;
ALTER TABLE shoots_2 RENAME TO shoots;
ALTER TABLE frames_2 RENAME TO frames;
CREATE TABLE selections (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, made TEXT NOT NULL);
CREATE TABLE selection_frames (
    selection_id INTEGER NOT NULL REFERENCES selections(id) ON DELETE CASCADE,
    frame_id INTEGER NOT NULL REFERENCES frames(id) ON DELETE CASCADE,
    PRIMARY KEY (selection_id, frame_id)
);
ALTER TABLE run_items ADD COLUMN shift INTEGER NOT NULL DEFAULT 0;
CREATE INDEX run_items_source ON run_items (source, state);
