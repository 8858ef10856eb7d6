-- Rows whose chunks have gone since the last commit began; each commit moves them into segments.live.
CREATE TABLE gone (
    segment INTEGER NOT NULL,
    row     INTEGER NOT NULL,
    PRIMARY KEY (segment, row)
) WITHOUT ROWID;

CREATE TRIGGER chunk_gone AFTER DELETE ON chunks WHEN old.segment IS NOT NULL BEGIN
    INSERT OR IGNORE INTO gone VALUES (old.segment, old.row);
END;
