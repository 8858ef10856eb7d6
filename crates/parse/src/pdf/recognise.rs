//! Recognises pages that are pictures, and reads them like the others.

use hayro_syntax::page::Page;
use logothete_core::Result;
use logothete_core::document::{PageRecogniser, Span};

use super::drawn::{Drawn, Layer};
use super::lines::Word;
use super::sheet::PageLines;
use super::stems::Weight;
use super::tags::Role;
use super::{columns, picture};

/// Pixels to a point: about 220 to the inch.
const SCALE: f32 = 3.0;
/// Lines whose heights differ from the usual one by less than this factor are set in one size.
const ONE_SIZE: f32 = 1.35;
/// The height of letters as a share of a line's box, and the height of their baseline above its foot.
const LETTERS: f32 = 0.85;
const DESCENT: f32 = 0.2;

/// Recognises a page. Returns its lines, and the mean confidence of its words from 0 to 1.
pub(super) fn page(
    number: u32,
    page: &Page<'_>,
    drawn: Drawn,
    recogniser: &dyn PageRecogniser,
) -> Result<(PageLines, f32)> {
    let (picture, scale) = picture::draw(page, SCALE);
    let seen = recogniser.recognise(&picture)?;
    let sure = seen.iter().map(|word| word.confidence).sum::<f32>() / seen.len().max(1) as f32;
    let height = |line: &[logothete_core::document::SeenWord]| {
        let (top, bottom) = line
            .iter()
            .fold((f32::INFINITY, 0f32), |(top, bottom), word| (top.min(word.area.top), bottom.max(word.area.bottom)));
        (bottom / scale, (bottom - top) / scale)
    };
    let mut heights: Vec<f32> = seen.chunk_by(|a, b| a.line == b.line).map(|line| height(line).1).collect();
    heights.sort_by(f32::total_cmp);
    let usual = heights.get(heights.len() / 2).copied().unwrap_or(10.0);
    let mut words = Vec::new();
    let mut sureness = Vec::new();
    for line in seen.chunk_by(|a, b| a.line == b.line) {
        let (foot, tall) = height(line);
        let tall = if tall < usual * ONE_SIZE && tall * ONE_SIZE > usual { usual } else { tall };
        for word in line {
            words.push(Word {
                text: word.text.clone(),
                left: word.area.left / scale,
                right: word.area.right / scale,
                baseline: foot - DESCENT * tall,
                size: tall * LETTERS,
                weight: Weight::Unknown,
                slanted: false,
                role: Role::None,
                pitch: 0.0,
                object: None,
            });
            sureness.push((word.text.clone(), word.confidence));
        }
    }
    let mut lines = columns::in_order(words, &[]);
    // The lines are in reading order by now, so their words are found again by their text.
    for line in &mut lines {
        let mut at = 0;
        for word in line.text.split(' ') {
            let span = Span::new(at, at + word.len());
            at = span.end + 1;
            if let Some(index) = sureness.iter().position(|(text, _)| text == word) {
                line.words.push((span, sureness.remove(index).1));
            }
        }
    }
    let drawn = Drawn { layers: vec![Layer::default()], ..drawn };
    let sheet = PageLines {
        number,
        width: drawn.width,
        height: drawn.height,
        turned: 0,
        lines,
        objects: Vec::new(),
        aslant: Vec::new(),
        furniture: Vec::new(),
        rules: Vec::new(),
    };
    Ok((sheet, sure))
}
