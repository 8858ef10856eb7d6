-- The chunks of a corpus. Described in docs/format.md.
CREATE TABLE chunks (
    id         TEXT PRIMARY KEY,
    document   INTEGER NOT NULL REFERENCES documents ON DELETE CASCADE,
    ordinal    INTEGER NOT NULL,
    start      INTEGER NOT NULL,  -- bytes of the document's text
    "end"      INTEGER NOT NULL,
    parent_start INTEGER NOT NULL,  -- its section, from heading to heading
    parent_end   INTEGER NOT NULL,
    first_page INTEGER,
    last_page  INTEGER,
    section    TEXT NOT NULL,     -- JSON: the headings above, outermost first
    size       INTEGER NOT NULL,  -- words
    text       TEXT NOT NULL,
    context    TEXT NOT NULL,
    sentences  TEXT NOT NULL,     -- JSON: what can be quoted
    same_as    TEXT,              -- the chunk that says the same, or nearly; nothing for most
    indexed    TEXT,              -- what is indexed where it is not all of the text: what only this chunk says
    segment    INTEGER REFERENCES segments,  -- nothing where the other chunk says all of it
    row        INTEGER,
    sketch1    INTEGER, sketch2 INTEGER, sketch3 INTEGER, sketch4 INTEGER,  -- to find chunks that say the same
    contents   INTEGER NOT NULL DEFAULT 0,  -- percent of its text that is a list of contents
    entries    INTEGER NOT NULL DEFAULT 0,  -- percent of its text in lines of a few words that end no sentence
    UNIQUE (segment, row)
);

CREATE INDEX chunks_of_document ON chunks (document, ordinal);
CREATE INDEX chunks_same_as ON chunks (same_as) WHERE same_as IS NOT NULL;
CREATE INDEX chunks_sketch1 ON chunks (sketch1) WHERE same_as IS NULL;
CREATE INDEX chunks_sketch2 ON chunks (sketch2) WHERE same_as IS NULL;
CREATE INDEX chunks_sketch3 ON chunks (sketch3) WHERE same_as IS NULL;
CREATE INDEX chunks_sketch4 ON chunks (sketch4) WHERE same_as IS NULL;
