//! Indexing the vectors of the tokens of a segment, for late interaction.

use logothete_core::Result;
use logothete_core::vector::{Role, TokenEncoder, TokenIndex, TokenIndexWriter, Vectors};

use crate::opened::Opened;
use crate::storage::{FileKind, Segment, SegmentEntry};
use crate::threads::{Driver, StopToken, caught_in};

/// The number of rows that are read from the catalogue at a time.
const READ_ROWS: u32 = 512;
/// The number of texts that are encoded before a stop is noticed.
const ENCODED_AT_ONCE: usize = 64;

/// Returns the encoder of tokens and the bits to keep; `None` if tokens are not to be indexed, or the encoder has no vectors of tokens.
fn wanted(opened: &Opened) -> Option<(&dyn TokenEncoder, u32)> {
    let bits = opened.config().index.tokens;
    opened.encoder.by_token().filter(|_| bits > 0).map(|encoder| (encoder, bits))
}

/// Returns `true` if a segment has the token index that it should have, or none if it should have none.
pub(super) fn is_settled(opened: &Opened, entry: &SegmentEntry) -> bool {
    match (wanted(opened), entry.files.name(FileKind::Tokens)) {
        (None, name) => name.is_empty(),
        (Some(_), "") => entry.files.rows == 0,
        (Some((encoder, bits)), name) => opened
            .storage
            .open_file(name)
            .and_then(TokenIndex::open)
            .is_ok_and(|index| (index.bits(), index.dimensions()) == (bits, encoder.token_dimensions())),
    }
}

/// Encodes the tokens of a segment and writes their index; `None` if tokens are not to be indexed, or the work was stopped. Costs as much as
/// encoding the chunks.
pub(super) fn write(
    opened: &Opened,
    driver: &Driver,
    entry: &SegmentEntry,
    stop: &StopToken,
) -> Result<Option<String>> {
    let Some((encoder, bits)) = wanted(opened) else { return Ok(None) };
    let mut writer = TokenIndexWriter::new(encoder.token_dimensions(), bits)?;
    let nothing = Vectors::new(encoder.token_dimensions());
    for from in (0..entry.files.rows).step_by(READ_ROWS as usize) {
        let to = entry.files.rows.min(from + READ_ROWS);
        let rows = opened.storage.read()?.indexed_rows(entry.id, from, to)?;
        for some in rows.chunks(ENCODED_AT_ONCE) {
            if stop.is_stopped() {
                return Ok(None);
            }
            let texts: Vec<String> = some.iter().map(|(_, indexed)| indexed.text()).collect();
            let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
            let encode = || caught_in("the encoder", || encoder.encode_tokens(&texts, Role::Passage));
            for ((row, _), tokens) in some.iter().zip(driver.compute(encode)?) {
                // A row that is no longer live has no tokens.
                while writer.rows() < *row {
                    writer.push(&nothing)?;
                }
                writer.push(&tokens)?;
            }
        }
        while writer.rows() < to {
            writer.push(&nothing)?;
        }
    }
    driver.compute(|| opened.storage.write(FileKind::Tokens, |to| writer.write(to))).map(Some)
}

/// Writes the index of the live rows of some segments, from their indexes; `None` if one of them has none, or tokens are not to be indexed. Nothing is
/// encoded again: the vectors are those that the indexes stand for.
pub(super) fn merge(opened: &Opened, segments: &[&Segment]) -> Result<Option<String>> {
    let Some((encoder, bits)) = wanted(opened) else { return Ok(None) };
    let fits = |index: &&TokenIndex<_>| (index.bits(), index.dimensions()) == (bits, encoder.token_dimensions());
    let indexes: Vec<_> = segments.iter().map_while(|segment| segment.tokens.as_ref().filter(fits)).collect();
    if indexes.len() < segments.len() {
        return Ok(None);
    }
    let mut writer = TokenIndexWriter::new(encoder.token_dimensions(), bits)?;
    for (segment, index) in segments.iter().zip(indexes) {
        for row in segment.entry.live.iter() {
            writer.push(&index.decoded(row))?;
        }
    }
    opened.storage.write(FileKind::Tokens, |to| writer.write(to)).map(Some)
}
