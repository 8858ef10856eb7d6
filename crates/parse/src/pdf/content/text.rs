//! Text: where each glyph of a string goes.

use hayro_font::kurbo::Affine;
use hayro_syntax::content::ops::TypedInstruction;
use hayro_syntax::object::{Array, Dict, Object};
use hayro_syntax::page::Resources;

use super::fonts::ActiveFont;
use super::{Interpreter, number};
use crate::pdf::stems::GlyphStyle;

impl<'a> Interpreter<'a, '_> {
    /// Runs an operator of text, and ignores others.
    pub(super) fn text(&mut self, operator: &TypedInstruction<'_, '_>, resources: &Resources<'a>) {
        use TypedInstruction as Op;
        let text = &mut self.state.text;
        match operator {
            Op::BeginText(_) => text.begin(Affine::IDENTITY),
            Op::SetTextMatrix(to) => text.begin(Affine::new([to.0, to.1, to.2, to.3, to.4, to.5].map(number))),
            Op::CharacterSpacing(spacing) => text.char_spacing = spacing.0.as_f32(),
            Op::WordSpacing(spacing) => text.word_spacing = spacing.0.as_f32(),
            Op::HorizontalScaling(scaling) => text.scaling = scaling.0.as_f32(),
            Op::TextLeading(leading) => text.leading = leading.0.as_f32(),
            Op::TextRise(rise) => text.rise = rise.0.as_f32(),
            Op::TextFont(font) => {
                text.size = font.1.as_f32();
                self.state.text.font = self.named_font(font.0, resources);
            }
            Op::NextLine(by) => text.next_line(number(by.0), number(by.1)),
            Op::NextLineAndSetLeading(by) => {
                text.leading = -by.1.as_f32();
                text.next_line(number(by.0), number(by.1));
            }
            Op::NextLineUsingLeading(_) => text.next_leading(),
            Op::ShowText(shown) => self.show(shown.0.as_bytes()),
            Op::NextLineAndShowText(shown) => {
                text.next_leading();
                self.show(shown.0.as_bytes());
            }
            Op::ShowTextWithParameters(shown) => {
                (text.word_spacing, text.char_spacing) = (shown.0.as_f32(), shown.1.as_f32());
                text.next_leading();
                self.show(shown.2.as_bytes());
            }
            Op::ShowTexts(shown) => self.show_adjusted(shown.0),
            _ => {}
        }
    }

    /// Returns the font of a name among the resources.
    fn named_font(&mut self, name: &[u8], resources: &Resources<'a>) -> Option<ActiveFont> {
        if let Some(known) = self.named.get(name) {
            return *known;
        }
        let font = match resources.fonts.get::<Dict<'a>>(name) {
            Some(dict) => self.fonts.font(&dict),
            None => self.fonts.fallback(),
        };
        self.named.insert(name.to_vec(), font);
        font
    }

    /// Shows a string.
    fn show(&mut self, text: &[u8]) {
        let Some(font) = self.font() else { return };
        let style = self.fonts.first_style(font, text);
        self.place(font, text, style.unwrap_or_default());
    }

    /// Shows strings with adjustments between them.
    fn show_adjusted(&mut self, parts: &Array<'_>) {
        let Some(font) = self.font() else { return };
        let mut strings = parts.iter::<Object<'_>>().filter_map(Object::into_string);
        let style = strings.find_map(|text| self.fonts.first_style(font, text.as_bytes())).unwrap_or_default();
        for part in parts.iter::<Object<'_>>() {
            match part {
                Object::Number(by) => self.state.text.adjust(by.as_f32(), self.fonts.is_horizontal(font)),
                Object::String(text) => self.place(font, text.as_bytes(), style),
                _ => {}
            }
        }
    }

    /// Returns the font that is set. Text without a font is shown in the fallback, as other readers do.
    fn font(&mut self) -> Option<ActiveFont> {
        if self.state.text.font.is_none() {
            self.state.text.font = self.fonts.fallback();
        }
        self.state.text.font
    }

    /// Places the glyphs of a string, and moves on to the place after them.
    fn place(&mut self, font: ActiveFont, bytes: &[u8], style: GlyphStyle) {
        // The codes of a font that could not be read mean nothing unless they are ASCII.
        let is_shown = self.visibility.is_visible() && (!font.is_fallback || bytes.is_ascii());
        let is_horizontal = self.fonts.is_horizontal(font);
        let text = &mut self.state.text;
        let (across, up) = text.unit(self.state.transform);
        let mut at = 0;
        while at < bytes.len() {
            let (code, length) = self.fonts.read_code(font, bytes, at);
            at += length.max(1);
            let glyph = self.fonts.glyph(font, code);
            if is_shown && !glyph.text.is_empty() {
                let origin =
                    self.state.transform * text.origin() + across * glyph.displacement.x + up * glyph.displacement.y;
                self.canvas.glyph(&glyph.text, origin, across * glyph.extent, up, style);
            }
            text.advance(glyph.advance, code == 32 && length == 1, is_horizontal);
        }
    }
}
