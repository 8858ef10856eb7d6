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

CREATE TABLE documents (
    id         INTEGER PRIMARY KEY,
    source     INTEGER NOT NULL REFERENCES sources,
    path       TEXT NOT NULL,         -- within the source
    name       TEXT NOT NULL UNIQUE,  -- what people see: the path, with the source's name before it where two agree
    title      TEXT,
    media_type TEXT NOT NULL,
    date       TEXT,                  -- from the metadata
    size       INTEGER NOT NULL,      -- of the file, in bytes
    modified   INTEGER NOT NULL,      -- of the file, nanoseconds since 1970
    seen       INTEGER NOT NULL,      -- when the file was read, nanoseconds since 1970
    hash       TEXT NOT NULL,         -- BLAKE3 of the file
    parser     TEXT NOT NULL,         -- fingerprints of the stages that made what is here
    chunker    TEXT NOT NULL,
    text       TEXT NOT NULL,         -- normalised
    pages      TEXT NOT NULL,         -- JSON: where each page begins
    layout     TEXT NOT NULL DEFAULT '{}',  -- JSON: places on pages, moments of a recording, links
    metadata   TEXT NOT NULL,         -- JSON
    warnings   TEXT NOT NULL,         -- JSON
    inode      INTEGER,               -- of the file
    UNIQUE (source, path)
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

