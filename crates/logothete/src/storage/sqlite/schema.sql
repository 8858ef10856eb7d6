-- The catalogue of a corpus. Described in docs/format.md.
CREATE TABLE about (
    key   TEXT PRIMARY KEY,
    value TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE sources (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    location TEXT NOT NULL UNIQUE,  -- the folder, absolute
    whole    INTEGER NOT NULL       -- 1: all of the folder was asked for; 0: single files of it
);

CREATE TABLE blocks (
    document   INTEGER NOT NULL REFERENCES documents ON DELETE CASCADE,
    ordinal    INTEGER NOT NULL,
    kind       TEXT NOT NULL,
    level      INTEGER NOT NULL,
    start      INTEGER NOT NULL,  -- bytes of the document's text
    "end"      INTEGER NOT NULL,
    details    TEXT,              -- JSON: a table's cells, furniture's text, a figure's place
    PRIMARY KEY (document, ordinal)
) WITHOUT ROWID;

