//! What all pictures share: size, colours, font, titles, legends and marks.

use std::sync::Once;

use logothete::eval::Run;
use plotters::chart::MeshStyle;
use plotters::coord::Shift;
use plotters::coord::ranged1d::Ranged;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontStyle, register_font};

/// The result of drawing.
pub type Drawn<B, T = ()> = Result<T, DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;

/// Width and height in pixels.
pub const SIZE: (u32, u32) = (760, 440);
pub const GROUND: RGBColor = RGBColor(0xFF, 0xFD, 0xF8);
pub const INK: RGBColor = RGBColor(0x22, 0x30, 0x3A);
pub const LINE: RGBColor = RGBColor(0xD9, 0xD4, 0xC8);
/// The colours of Okabe and Ito (2008) that are dark enough for a light ground, and light enough for a dark one.
pub const COLOURS: [RGBColor; 7] = [
    RGBColor(0x00, 0x72, 0xB2),
    RGBColor(0xD5, 0x5E, 0x00),
    RGBColor(0x00, 0x9E, 0x73),
    RGBColor(0xCC, 0x79, 0xA7),
    RGBColor(0xE6, 0x9F, 0x00),
    RGBColor(0x56, 0xB4, 0xE9),
    RGBColor(0x80, 0x80, 0x80),
];
/// The space above the axes, for the title and the legend.
pub const TOP: u32 = 84;
const FONT: &str = "sans-serif";
const TEXT: i32 = 17;

/// Registers the font that sizes text, and draws it in PNG.
pub fn use_font() {
    static REGISTERED: Once = Once::new();
    // The font is part of a package and known to be sound; text would be left out without it.
    REGISTERED.call_once(|| {
        let _ = register_font(FONT, FontStyle::Normal, epaint_default_fonts::UBUNTU_LIGHT);
    });
}

/// Returns a style for text of the usual size.
pub fn text_style(colour: &RGBColor, horizontal: HPos, vertical: VPos) -> TextStyle<'static> {
    (FONT, TEXT).into_font().color(colour).pos(Pos::new(horizontal, vertical))
}

/// Gives axes the lines and the text of all pictures.
pub fn styled<'m, 'a, 'b, X: Ranged, Y: Ranged, B: DrawingBackend>(
    mesh: &'m mut MeshStyle<'a, 'b, X, Y, B>,
) -> &'m mut MeshStyle<'a, 'b, X, Y, B> {
    mesh.axis_style(LINE)
        .bold_line_style(LINE)
        .light_line_style(TRANSPARENT)
        .x_label_style(text_style(&INK, HPos::Center, VPos::Top))
        .y_label_style(text_style(&INK, HPos::Right, VPos::Center))
        // The chart places the names of the axes itself.
        .axis_desc_style((FONT, TEXT).into_font().color(&INK))
}

/// Writes text at a pixel.
pub fn write<B: DrawingBackend>(
    area: &DrawingArea<B, Shift>,
    text: &str,
    at: (i32, i32),
    horizontal: HPos,
    vertical: VPos,
) -> Drawn<B> {
    area.draw(&Text::new(text.to_owned(), at, text_style(&INK, horizontal, vertical)))
}

/// Writes the title of a picture.
pub fn title<B: DrawingBackend>(area: &DrawingArea<B, Shift>, text: &str) -> Drawn<B> {
    let style = (FONT, 22).into_font().color(&INK).pos(Pos::new(HPos::Left, VPos::Top));
    area.draw(&Text::new(text.to_owned(), (18, 14), style))
}

/// Draws a legend of names with their colours and marks under the title.
pub fn legend<B: DrawingBackend>(area: &DrawingArea<B, Shift>, names: &[String]) -> Drawn<B> {
    let mut x = 24;
    for (at, name) in names.iter().enumerate() {
        mark(area, at, (x, 58))?;
        write(area, name, (x + 12, 58), HPos::Left, VPos::Center)?;
        let (width, _) = area.estimate_text_size(name, &text_style(&INK, HPos::Left, VPos::Center))?;
        x += width as i32 + 40;
    }
    Ok(())
}

/// Returns the names of runs for a legend, shortened so that all fit.
pub fn names(runs: &[&Run]) -> Vec<String> {
    let room = (96 / runs.len().max(1)).max(8);
    let name = |(at, run): (usize, &&Run)| {
        let name = if at == 0 && runs.len() > 1 { "as configured" } else { &run.name };
        match name.char_indices().nth(room) {
            Some((end, _)) => format!("{}…", &name[..end]),
            None => name.to_owned(),
        }
    };
    runs.iter().enumerate().map(name).collect()
}

/// Draws the mark of a pipeline at a pixel: its colour, and a shape of its own.
pub fn mark<B: DrawingBackend>(area: &DrawingArea<B, Shift>, number: usize, (x, y): (i32, i32)) -> Drawn<B> {
    let colour = COLOURS[number % COLOURS.len()];
    let full = colour.filled();
    match number % 4 {
        0 => area.draw(&Circle::new((x, y), 6, full)),
        1 => area.draw(&Polygon::new(vec![(x, y - 7), (x + 7, y + 5), (x - 7, y + 5)], full)),
        2 => area.draw(&Rectangle::new([(x - 5, y - 5), (x + 5, y + 5)], full)),
        _ => area.draw(&Polygon::new(vec![(x, y - 7), (x + 7, y), (x, y + 7), (x - 7, y)], full)),
    }
}
