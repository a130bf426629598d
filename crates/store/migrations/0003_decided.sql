-- A run takes along all that was decided about a frame, not only the correction of its time.
ALTER TABLE run_items ADD COLUMN decided TEXT NOT NULL DEFAULT '{}';
UPDATE run_items SET decided = json_object('shift', shift);
ALTER TABLE run_items DROP COLUMN shift;
