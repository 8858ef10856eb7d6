-- The segments of a corpus of format 4, which the next step migrates to format 5.
CREATE TABLE segments (
    id       INTEGER PRIMARY KEY,
    rows     INTEGER NOT NULL,
    vectors  TEXT NOT NULL,  -- file names in segments/
    keywords TEXT NOT NULL,
    near     TEXT,           -- the graph or the inverted lists over the vectors; null if they are scanned
    live     BLOB            -- a bit a row, the first row in the lowest bit of the first byte; null means that all are live
);
