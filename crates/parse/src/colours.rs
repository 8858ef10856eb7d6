//! The colours of blocks in pictures of pages.

use logothete_core::document::BlockKind;

/// Returns the colour of the outline of a kind of block: red, green, blue.
pub fn block_colour(kind: BlockKind) -> [u8; 3] {
    match kind {
        BlockKind::Heading => [200, 30, 60],
        BlockKind::Paragraph => [30, 90, 200],
        BlockKind::ListItem => [0, 130, 140],
        BlockKind::Table => [20, 130, 50],
        BlockKind::Code => [110, 110, 20],
        BlockKind::Quotation => [150, 90, 20],
        BlockKind::Figure => [140, 40, 170],
        BlockKind::Caption => [190, 80, 170],
        BlockKind::Footnote => [210, 110, 0],
        BlockKind::Contents => [30, 40, 110],
        _ => [130, 130, 130],
    }
}
