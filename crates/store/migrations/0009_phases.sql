-- The part of its run an item is in, and what was measured of it in the first.
ALTER TABLE run_items ADD COLUMN phase TEXT NOT NULL DEFAULT 'render';
ALTER TABLE run_items ADD COLUMN measured TEXT;
UPDATE run_items SET phase = 'assemble' WHERE task IS NOT NULL;
-- Nothing is made while something of its run is still to be measured, which is asked at every claim.
CREATE INDEX run_items_to_measure ON run_items (run_id) WHERE phase = 'measure' AND state = 'waiting';
