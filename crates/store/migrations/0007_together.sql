-- What is made of all pictures of a run together: a number into the recipe's list of such tasks; nothing for a picture.
ALTER TABLE run_items ADD COLUMN task INTEGER;
-- What a result was made by and of, for results that bear no mark themselves.
ALTER TABLE results ADD COLUMN mark TEXT;
