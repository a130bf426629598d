-- How many items of each run stand how, beside the items: nobody has to read them all to be told how far a run is.
CREATE TABLE run_counts (
    run_id INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    state TEXT NOT NULL,
    is_task INTEGER NOT NULL,
    items INTEGER NOT NULL,
    -- Of their originals; what is not known counts as one.
    pixels INTEGER NOT NULL,
    PRIMARY KEY (run_id, state, is_task)
) WITHOUT ROWID;

INSERT INTO run_counts
SELECT run_id, state, task IS NOT NULL, count(*), sum(max(pixels, 1)) FROM run_items GROUP BY 1, 2, 3;

CREATE TRIGGER run_counts_added AFTER INSERT ON run_items BEGIN
    INSERT INTO run_counts VALUES (new.run_id, new.state, new.task IS NOT NULL, 1, max(new.pixels, 1))
    ON CONFLICT (run_id, state, is_task) DO UPDATE SET items = items + 1, pixels = pixels + excluded.pixels;
END;

CREATE TRIGGER run_counts_gone AFTER DELETE ON run_items BEGIN
    UPDATE run_counts SET items = items - 1, pixels = pixels - max(old.pixels, 1)
    WHERE run_id = old.run_id AND state = old.state AND is_task = (old.task IS NOT NULL);
END;

CREATE TRIGGER run_counts_moved AFTER UPDATE OF state, pixels, task, run_id ON run_items
WHEN old.state <> new.state OR old.pixels <> new.pixels OR old.task IS NOT new.task OR old.run_id <> new.run_id BEGIN
    UPDATE run_counts SET items = items - 1, pixels = pixels - max(old.pixels, 1)
    WHERE run_id = old.run_id AND state = old.state AND is_task = (old.task IS NOT NULL);
    INSERT INTO run_counts VALUES (new.run_id, new.state, new.task IS NOT NULL, 1, max(new.pixels, 1))
    ON CONFLICT (run_id, state, is_task) DO UPDATE SET items = items + 1, pixels = pixels + excluded.pixels;
END;
