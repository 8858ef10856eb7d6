-- The segments of a corpus, and which of their rows are live. Described in docs/format.md.
CREATE TABLE segments (
    id       INTEGER PRIMARY KEY,
    rows     INTEGER NOT NULL,
    live     BLOB            -- a bit a row, the first row in the lowest bit of the first byte; null means that all are live
);

-- The files of each segment in segments/, by kind: vectors, keywords, graph, lists.
CREATE TABLE segment_files (
    segment  INTEGER NOT NULL REFERENCES segments ON DELETE CASCADE,
    kind     TEXT NOT NULL,
    name     TEXT NOT NULL,
    PRIMARY KEY (segment, kind)
) WITHOUT ROWID;
