//! Fonts. What a code of a font says is looked up once.
//!
//! The text and the width of a code take several look-ups by name, above all in fonts that are not embedded.

use std::collections::HashMap;
use std::sync::Arc;

use hayro_cmap::BfString;
use hayro_font::kurbo::Vec2;
use hayro_font::{CMapResolverFn, Font, FontCache, FontGlyph, FontQuery, FontResolverFn, OutlineGlyph, StandardFont};
use hayro_syntax::object::Dict;

use crate::pdf::stems::{GlyphStyle, GlyphStyles};

/// The width of a glyph whose font does not give one, in thousandths of the em.
const DEFAULT_WIDTH: f32 = 500.0;
/// A font with more long codes than this forgets all its codes, to bound the memory.
const MAX_LONG_CODES: usize = 1 << 18;
/// Stands for a position that is not known yet.
const UNKNOWN: u32 = u32::MAX;

/// A font of a document.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct FontId(usize);

/// The font that text is shown in.
#[derive(Clone, Copy, Debug)]
pub(super) struct ActiveFont {
    id: FontId,
    /// Whether it replaces a font that was not set or could not be read.
    pub is_fallback: bool,
}

/// The fonts of a document.
pub(super) struct Fonts<'a> {
    /// Reads fonts, and keeps their programs.
    cache: FontCache<'a>,
    standard_fonts: FontResolverFn,
    standard_cmaps: CMapResolverFn,
    /// The fonts that were read, by their dictionaries; `None` for those that could not be read.
    known: HashMap<&'a [u8], Option<FontId>>,
    fallback: Option<Option<FontId>>,
    tables: Vec<FontTable<'a>>,
    styles: GlyphStyles,
}

/// A code of a font. Lengths are thousandths of the em.
#[derive(Clone, Debug)]
pub(super) struct GlyphFacts {
    /// Its text; empty if that is not known.
    pub text: Box<str>,
    /// How far it reaches along the line.
    pub extent: f64,
    /// How far the next glyph is.
    pub advance: Vec2,
    /// The offset from the origin.
    pub displacement: Vec2,
    /// The style of its shape; `None` if it has no stem to measure.
    style: Option<GlyphStyle>,
}

/// A font, and what its codes say as far as they have been looked up.
struct FontTable<'a> {
    font: Font<'a>,
    is_horizontal: bool,
    facts: Vec<GlyphFacts>,
    /// For each code below 256, the position of its facts, or [`UNKNOWN`].
    short: Box<[u32; 256]>,
    /// The same for other codes.
    long: HashMap<u32, u32>,
}

impl Default for Fonts<'_> {
    fn default() -> Self {
        let standard_fonts: FontResolverFn = Arc::new(|query| {
            Some(match query {
                FontQuery::Standard(font) => font.get_font_data(),
                FontQuery::Fallback(query) => query.pick_standard_font().get_font_data(),
            })
        });
        Self {
            cache: FontCache::new(),
            standard_fonts,
            standard_cmaps: Arc::new(hayro_cmap::load_embedded),
            known: HashMap::new(),
            fallback: None,
            tables: Vec::new(),
            styles: GlyphStyles::default(),
        }
    }
}

impl<'a> Fonts<'a> {
    /// Returns the font of a dictionary. A font that cannot be read is replaced by the fallback.
    pub(super) fn font(&mut self, dict: &Dict<'a>) -> Option<ActiveFont> {
        let known = self.known.get(dict.data()).copied().unwrap_or_else(|| {
            let font = self.cache.font(dict, &self.standard_fonts, &self.standard_cmaps);
            let id = font.map(|font| self.add(font));
            self.known.insert(dict.data(), id);
            id
        });
        known.map(|id| ActiveFont { id, is_fallback: false }).or_else(|| self.fallback())
    }

    /// Returns the font for text that has none: Helvetica.
    pub(super) fn fallback(&mut self) -> Option<ActiveFont> {
        let id = self.fallback.unwrap_or_else(|| {
            let font = self.cache.standard_font(StandardFont::Helvetica, &self.standard_fonts);
            let id = font.map(|font| self.add(font));
            self.fallback = Some(id);
            id
        });
        id.map(|id| ActiveFont { id, is_fallback: true })
    }

    fn add(&mut self, font: Font<'a>) -> FontId {
        self.tables.push(FontTable::new(font));
        FontId(self.tables.len() - 1)
    }

    /// Returns `true` if the font is written along level lines.
    pub(super) fn is_horizontal(&self, font: ActiveFont) -> bool {
        self.tables[font.id.0].is_horizontal
    }

    /// Reads the code at a position, and returns it with its length in bytes.
    pub(super) fn read_code(&self, font: ActiveFont, bytes: &[u8], at: usize) -> (u32, usize) {
        self.tables[font.id.0].font.read_code(bytes, at)
    }

    /// Returns the glyph of a code.
    pub(super) fn glyph(&mut self, font: ActiveFont, code: u32) -> &GlyphFacts {
        self.tables[font.id.0].glyph(code, &mut self.styles)
    }

    /// Returns the style of the first glyph of a string that has one.
    pub(super) fn first_style(&mut self, font: ActiveFont, bytes: &[u8]) -> Option<GlyphStyle> {
        let mut at = 0;
        while at < bytes.len() {
            let (code, length) = self.read_code(font, bytes, at);
            at += length.max(1);
            if let Some(style) = self.glyph(font, code).style {
                return Some(style);
            }
        }
        None
    }
}

impl<'a> FontTable<'a> {
    fn new(font: Font<'a>) -> Self {
        let is_horizontal = font.is_horizontal();
        Self { font, is_horizontal, facts: Vec::new(), short: Box::new([UNKNOWN; 256]), long: HashMap::new() }
    }

    fn glyph(&mut self, code: u32, styles: &mut GlyphStyles) -> &GlyphFacts {
        let known = match self.short.get(code as usize) {
            Some(&at) => Some(at).filter(|at| *at != UNKNOWN),
            None => self.long.get(&code).copied(),
        };
        let at = known.unwrap_or_else(|| self.look_up(code, styles));
        &self.facts[at as usize]
    }

    /// Looks up what a code says, and returns the position of it.
    fn look_up(&mut self, code: u32, styles: &mut GlyphStyles) -> u32 {
        if self.long.len() >= MAX_LONG_CODES {
            self.long.clear();
            self.short.fill(UNKNOWN);
            self.facts.clear();
        }
        let at = self.facts.len() as u32;
        self.facts.push(facts(&self.font, code, styles));
        match self.short.get_mut(code as usize) {
            Some(entry) => *entry = at,
            None => drop(self.long.insert(code, at)),
        }
        at
    }
}

fn facts(font: &Font<'_>, code: u32, styles: &mut GlyphStyles) -> GlyphFacts {
    let glyph = font.map_code(code);
    let (text, width, style) = match font.glyph(glyph, code) {
        FontGlyph::Outline(outline) => of_outline(&outline, styles),
        FontGlyph::Type3(drawing) => (drawing.as_unicode(), Some(drawing.advance_width()), None),
    };
    GlyphFacts {
        text: text.map(|text| plain(&text)).unwrap_or_default(),
        extent: f64::from(width.unwrap_or(DEFAULT_WIDTH)) * font.glyph_stretch(glyph, code),
        advance: font.code_advance(code),
        displacement: font.origin_displacement(code),
        style,
    }
}

fn of_outline(glyph: &OutlineGlyph, styles: &mut GlyphStyles) -> (Option<BfString>, Option<f32>, Option<GlyphStyle>) {
    let text = glyph.as_unicode();
    let style = match text {
        Some(BfString::Char(character)) => styles.of(glyph, character),
        _ => None,
    };
    (text, glyph.advance_width(), style)
}

/// Returns the text of a glyph: ligatures as their letters, soft hyphens as hyphens, controls not at all.
fn plain(text: &BfString) -> Box<str> {
    let mut plain = String::new();
    let mut push = |c: char| match c {
        'ﬀ' => plain.push_str("ff"),
        'ﬁ' => plain.push_str("fi"),
        'ﬂ' => plain.push_str("fl"),
        'ﬃ' => plain.push_str("ffi"),
        'ﬄ' => plain.push_str("ffl"),
        'ﬅ' | 'ﬆ' => plain.push_str("st"),
        '\u{ad}' => plain.push('-'),
        '\u{a0}' => plain.push(' '),
        c if c.is_control() => {}
        c => plain.push(c),
    };
    match text {
        BfString::Char(c) => push(*c),
        BfString::String(text) => text.chars().for_each(push),
    }
    plain.into()
}
