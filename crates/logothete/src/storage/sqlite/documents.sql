-- The documents of a corpus. Described in docs/format.md. Long columns come last, so that reading the others does not read them.
CREATE TABLE documents (
    id         INTEGER PRIMARY KEY,
    source     INTEGER NOT NULL REFERENCES sources,
    path       TEXT NOT NULL,         -- within the source
    name       TEXT NOT NULL UNIQUE,  -- what people see: the path, with the source's name before it where two agree
    title      TEXT,
    media_type TEXT NOT NULL,
    date       TEXT,                  -- from the metadata
    size       INTEGER NOT NULL,      -- of the file, in bytes
    modified   INTEGER NOT NULL,      -- of the file, nanoseconds since 1970; 0 if unknown
    seen       INTEGER NOT NULL,      -- when the file was read, nanoseconds since 1970
    inode      INTEGER,               -- of the file
    hash       TEXT NOT NULL,         -- BLAKE3 of the file
    parser     TEXT NOT NULL,         -- fingerprints of the stages that made what is here
    chunker    TEXT NOT NULL,
    given      TEXT NOT NULL DEFAULT '{}',  -- JSON: the metadata that the source and the build gave
    metadata   TEXT NOT NULL,         -- JSON
    warnings   TEXT NOT NULL,         -- JSON
    pages      TEXT NOT NULL,         -- JSON: where each page begins
    layout     TEXT NOT NULL DEFAULT '{}',  -- JSON: places on pages, moments of a recording, links
    text       TEXT NOT NULL,         -- normalised
    UNIQUE (source, path)
);

-- To find documents that have moved.
CREATE INDEX documents_hash ON documents (hash);
