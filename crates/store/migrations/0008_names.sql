-- A run is listed by its recipe's name, without reading the whole recipe.
ALTER TABLE runs ADD COLUMN recipe_name TEXT NOT NULL DEFAULT '';
UPDATE runs SET recipe_name = coalesce(json_extract(document, '$.name'), '') WHERE json_valid(document);
-- Counting a run's items must not read their rows; this one holds all that is counted.
DROP INDEX run_items_counts;
CREATE INDEX run_items_counts ON run_items (run_id, state, task, pixels, worker);
-- Leases that ran out are looked for all the time.
CREATE INDEX run_items_leases ON run_items (lease) WHERE lease IS NOT NULL;
