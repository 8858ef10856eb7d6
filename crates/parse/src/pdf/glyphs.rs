//! What glyphs say: their text, their width and the style of their shapes, looked up once for each glyph of a font.
//!
//! Finding the text and the width of a glyph in a font that is not embedded takes several look-ups by name. A run is shown in one
//! font, and its first glyph is a key to it: the glyph's outline, its code and its width.

use std::collections::HashMap;

use hayro_interpret::font::{Glyph, GlyphIdentifier, GlyphRun, OutlineGlyph, PositionedGlyph};
use hayro_interpret::hayro_cmap::BfString;

use super::stems::{GlyphStyle, GlyphStyles};

/// The width of a glyph whose font does not give one, in thousandths of the em.
const DEFAULT_WIDTH: f32 = 500.0;
/// How many codes a table has. Fonts with longer codes have no table.
const TABLE_CODES: usize = 256;
/// More tables than this are not kept.
const MAX_TABLES: usize = 1_024;

/// What a glyph says.
#[derive(Clone, Debug)]
pub(super) struct GlyphFacts {
    pub text: Option<BfString>,
    /// In thousandths of the em.
    pub width: f32,
    /// The style of its shape; `None` if it has no stem to measure.
    pub style: Option<GlyphStyle>,
}

/// The first glyph of a run, as a key to its font.
#[derive(Debug, PartialEq, Eq, Hash)]
struct FirstGlyph {
    outline: GlyphIdentifier,
    code: u32,
    width: Option<u32>,
}

/// What glyphs say, for all pages of a document.
#[derive(Debug, Default)]
pub(super) struct GlyphCache {
    /// What the codes of each font say, as far as they have been looked up.
    tables: HashMap<FirstGlyph, Box<[Option<GlyphFacts>]>>,
    styles: GlyphStyles,
}

impl GlyphCache {
    /// Calls back with what each glyph of a run says, in order, and with the style of the run: that of the first stem.
    pub(super) fn each(
        &mut self,
        run: &GlyphRun<'_, '_>,
        mut each: impl FnMut(&PositionedGlyph<'_>, &GlyphFacts, GlyphStyle),
    ) {
        let glyphs = run.glyphs();
        let styles = &mut self.styles;
        let Some(key) = FirstGlyph::of(glyphs) else {
            let facts: Vec<GlyphFacts> = glyphs.iter().map(|glyph| GlyphFacts::of(glyph, styles)).collect();
            let style = facts.iter().find_map(|facts| facts.style).unwrap_or_default();
            glyphs.iter().zip(&facts).for_each(|(glyph, facts)| each(glyph, facts, style));
            return;
        };
        if self.tables.len() >= MAX_TABLES {
            self.tables.clear();
        }
        let table = self.tables.entry(key).or_insert_with(|| vec![None; TABLE_CODES].into());
        let mut style = None;
        for glyph in glyphs {
            let facts = table[glyph.char_code() as usize].get_or_insert_with(|| GlyphFacts::of(glyph, styles));
            style = style.or(facts.style);
        }
        for glyph in glyphs {
            if let Some(facts) = &table[glyph.char_code() as usize] {
                each(glyph, facts, style.unwrap_or_default());
            }
        }
    }
}

impl FirstGlyph {
    /// Returns `None` if the font has no table: it is no font of outlines, or it has longer codes.
    fn of(glyphs: &[PositionedGlyph<'_>]) -> Option<Self> {
        if glyphs.iter().any(|glyph| glyph.char_code() as usize >= TABLE_CODES) {
            return None;
        }
        match &**glyphs.first()? {
            Glyph::Outline(glyph) => {
                let width = glyph.advance_width().map(f32::to_bits);
                Some(Self { outline: glyph.identifier(), code: glyph.char_code(), width })
            }
            Glyph::Type3(_) => None,
        }
    }
}

impl GlyphFacts {
    /// Looks up what a glyph says.
    pub(super) fn of(glyph: &Glyph<'_>, styles: &mut GlyphStyles) -> Self {
        match glyph {
            Glyph::Outline(glyph) => Self::of_outline(glyph, styles),
            Glyph::Type3(glyph) => {
                Self { text: glyph.as_unicode(), width: glyph.advance_width().unwrap_or(DEFAULT_WIDTH), style: None }
            }
        }
    }

    fn of_outline(glyph: &OutlineGlyph, styles: &mut GlyphStyles) -> Self {
        let text = glyph.as_unicode();
        let style = match text {
            Some(BfString::Char(character)) => styles.of(glyph, character),
            _ => None,
        };
        Self { text, width: glyph.advance_width().unwrap_or(DEFAULT_WIDTH), style }
    }
}
