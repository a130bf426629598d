-- A frame carries its own small changes on top of a recipe.
ALTER TABLE frames ADD COLUMN own TEXT NOT NULL DEFAULT '{}';
