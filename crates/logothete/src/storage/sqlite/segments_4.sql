-- The segments of a corpus of format 4, which is brought up to format 5 next.
CREATE TABLE segments (
    id       INTEGER PRIMARY KEY,
    rows     INTEGER NOT NULL,
    vectors  TEXT NOT NULL,  -- file names in segments/
    keywords TEXT NOT NULL,
    near     TEXT,           -- the graph or the inverted lists over the vectors; nothing where they are scanned
    live     BLOB            -- a bit a row, the first row in the lowest bit of the first byte; nothing where all are live
);

-- Rows whose chunks have gone since the last commit began; each commit moves them into segments.live.
CREATE TABLE gone (
    segment INTEGER NOT NULL,
    row     INTEGER NOT NULL,
    PRIMARY KEY (segment, row)
) WITHOUT ROWID;

CREATE TRIGGER chunk_gone AFTER DELETE ON chunks WHEN old.segment IS NOT NULL BEGIN
    INSERT OR IGNORE INTO gone VALUES (old.segment, old.row);
END;

-- To find documents that have moved.
CREATE INDEX documents_hash ON documents (hash);
