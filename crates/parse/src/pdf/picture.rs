//! Draws pages: for recognition, for figures, and with their blocks outlined.

use hayro::hayro_interpret::InterpreterSettings;
use hayro::hayro_interpret::hayro_syntax::Pdf;
use hayro::hayro_interpret::hayro_syntax::page::Page;
use hayro::vello_cpu::color::palette::css::WHITE;
use hayro::{PixmapSettings, RenderCache, RenderSettings, render};
use logothete_core::document::{Area, BlockKind, Document, Picture};
use logothete_core::{Error, ErrorKind, Result};

use crate::block_colour;

/// The greatest number of pixels of a picture.
const MAX_PIXELS: f32 = 40_000_000.0;
/// The greatest width and height of a picture, in pixels.
const MAX_SIDE: f32 = 16_000.0;
/// The ink of marked areas, and how far it reaches beyond them, in points.
const MARKER: [u16; 3] = [255, 217, 119];
const MARK: f32 = 1.0;
/// How thick outlines are, and how large figures, in pixels.
const OUTLINE: i64 = 2;
const DIGIT: i64 = 2;
/// The ten figures, three dots wide and five high, a row of three bits after the other.
const FIGURES: [u16; 10] = [
    0b111_101_101_101_111,
    0b010_110_010_010_111,
    0b111_001_111_100_111,
    0b111_001_111_001_111,
    0b101_101_111_001_001,
    0b111_100_111_001_111,
    0b111_100_111_101_111,
    0b111_001_010_010_010,
    0b111_101_111_101_111,
    0b111_101_111_001_111,
];

/// Draws a page. `scale` is pixels to a point; it is lowered if the picture would be too large.
pub(super) fn draw(page: &Page<'_>, scale: f32) -> (Picture, f32) {
    let (width, height) = page.render_dimensions();
    let most = (MAX_PIXELS / (width * height).max(1.0)).sqrt().min(MAX_SIDE / width.max(height).max(1.0));
    let scale = scale.min(most);
    let pixels = PixmapSettings { x_scale: scale, y_scale: scale, bg_color: WHITE };
    let drawn = render(page, &RenderCache::new(), &InterpreterSettings::default(), &RenderSettings::default(), &pixels);
    let rgb = drawn.data().iter().flat_map(|pixel| [pixel.r, pixel.g, pixel.b]).collect();
    (Picture { width: drawn.width().into(), height: drawn.height().into(), pixels: rgb }, scale)
}

/// Returns a page of a PDF as a picture, `scale` pixels to a point.
///
/// # Errors
/// If the file is protected or damaged, or has no such page.
pub fn page_picture(bytes: &[u8], password: Option<&str>, page: u32, scale: f32) -> Result<Picture> {
    Ok(drawn(&super::open(bytes, password)?, page, scale)?.0)
}

fn drawn(pdf: &Pdf, page: u32, scale: f32) -> Result<(Picture, f32)> {
    let pages = pdf.pages();
    let found = (page as usize).checked_sub(1).and_then(|index| pages.get(index)).ok_or_else(|| {
        let message = format!("it has {}, and page {page} was asked for", super::count_pages(pages.len()));
        Error::new(ErrorKind::Configuration, message)
    })?;
    Ok(draw(found, scale))
}

/// Returns an area of a page as a picture: the figure of a block, at its place.
///
/// # Errors
/// As [`page_picture`].
pub fn area_picture(bytes: &[u8], password: Option<&str>, page: u32, area: Area, scale: f32) -> Result<Picture> {
    let (whole, scale) = drawn(&super::open(bytes, password)?, page, scale)?;
    let pixel = |at: f32, most: u32| ((at * scale).round().max(0.0) as u32).min(most);
    let (left, right) = (pixel(area.left, whole.width), pixel(area.right, whole.width));
    let (top, bottom) = (pixel(area.top, whole.height), pixel(area.bottom, whole.height));
    let row = |y: u32| {
        let start = ((y * whole.width + left) * 3) as usize;
        whole.pixels[start..start + ((right.max(left) - left) * 3) as usize].to_vec()
    };
    let pixels = (top..bottom.max(top)).flat_map(row).collect();
    Ok(Picture { width: right.max(left) - left, height: bottom.max(top) - top, pixels })
}

/// Returns a page of a PDF as it is printed, with some areas of it marked as with a marker pen.
///
/// # Errors
/// As [`page_picture`].
pub fn marked_page(bytes: &[u8], password: Option<&str>, page: u32, areas: &[Area], scale: f32) -> Result<Picture> {
    let (mut picture, scale) = drawn(&super::open(bytes, password)?, page, scale)?;
    // Areas of lines that follow each other overlap; a place is marked once.
    let mut marked = vec![false; picture.pixels.len() / 3];
    let (width, height) = (picture.width as usize, picture.height as usize);
    let pixel = |at: f32, most: usize| (at * scale).round().clamp(0.0, most as f32) as usize;
    for area in areas {
        let (left, right) = (pixel(area.left - MARK, width), pixel(area.right + MARK, width));
        for y in pixel(area.top - MARK, height)..pixel(area.bottom + MARK, height) {
            marked[y * width + left.min(right)..y * width + right].fill(true);
        }
    }
    for (pixel, _) in picture.pixels.chunks_exact_mut(3).zip(&marked).filter(|(_, marked)| **marked) {
        // What is dark stays dark.
        pixel.iter_mut().zip(MARKER).for_each(|(part, ink)| *part = (u16::from(*part) * ink / 255) as u8);
    }
    Ok(picture)
}

/// Returns a page of a PDF with the blocks of its document outlined by kind and numbered in reading order.
///
/// # Errors
/// As [`page_picture`].
pub fn outlined_page(
    bytes: &[u8],
    password: Option<&str>,
    document: &Document,
    page: u32,
    scale: f32,
) -> Result<Picture> {
    let (mut picture, scale) = drawn(&super::open(bytes, password)?, page, scale)?;
    let on_page = |block| -> Vec<Area> {
        let places = document.block_areas(block).into_iter().filter(|place| place.page == page);
        places.map(|place| place.area).collect()
    };
    let all: Vec<(BlockKind, Vec<Area>)> = document
        .blocks
        .iter()
        .map(|block| (block.kind, on_page(block)))
        .filter(|(_, areas)| !areas.is_empty())
        .collect();
    let pixels = |area: Area| [area.left, area.top, area.right, area.bottom].map(|at| (at * scale).round() as i64);
    for (kind, areas) in &all {
        areas.iter().for_each(|area| outline(&mut picture, pixels(*area), block_colour(*kind)));
    }
    let taken: Vec<[i64; 4]> = all.iter().flat_map(|(_, areas)| areas).map(|area| pixels(*area)).collect();
    for (number, (kind, areas)) in (1u32..).zip(&all) {
        label(&mut picture, pixels(areas[0]), &taken, number, block_colour(*kind));
    }
    Ok(picture)
}

fn dot(picture: &mut Picture, x: i64, y: i64, colour: [u8; 3]) {
    if (0..i64::from(picture.width)).contains(&x) && (0..i64::from(picture.height)).contains(&y) {
        let at = ((y * i64::from(picture.width) + x) * 3) as usize;
        picture.pixels[at..at + 3].copy_from_slice(&colour);
    }
}

fn fill(picture: &mut Picture, left: i64, top: i64, right: i64, bottom: i64, colour: [u8; 3]) {
    for y in top.max(0)..bottom.min(i64::from(picture.height)) {
        for x in left.max(0)..right.min(i64::from(picture.width)) {
            dot(picture, x, y, colour);
        }
    }
}

fn outline(picture: &mut Picture, [left, top, right, bottom]: [i64; 4], colour: [u8; 3]) {
    let (left, top) = (left - OUTLINE - 1, top - OUTLINE);
    let (right, bottom) = (right + OUTLINE + 1, bottom + OUTLINE);
    fill(picture, left, top, right, top + OUTLINE, colour);
    fill(picture, left, bottom - OUTLINE, right, bottom, colour);
    fill(picture, left, top, left + OUTLINE, bottom, colour);
    fill(picture, right - OUTLINE, top, right, bottom, colour);
}

/// A number in a filled box beside an area: on its left, on its right or above it, where no other area is covered.
fn label(picture: &mut Picture, area: [i64; 4], taken: &[[i64; 4]], number: u32, colour: [u8; 3]) {
    let digits = number.to_string();
    let (width, height) = (digits.len() as i64 * 4 * DIGIT + DIGIT, 7 * DIGIT);
    let edge = OUTLINE + 1;
    let [area_left, area_top, area_right, _] = area;
    let places = [
        (area_left - edge - width, area_top - OUTLINE),
        (area_right + edge, area_top - OUTLINE),
        (area_left - edge, area_top - OUTLINE - height),
    ];
    let free = |&(left, top): &(i64, i64)| {
        let inside = left >= 0 && top >= 0 && left + width <= i64::from(picture.width);
        let covers = |other: &[i64; 4]| {
            *other != area && left < other[2] && other[0] < left + width && top < other[3] && other[1] < top + height
        };
        inside && !taken.iter().any(covers)
    };
    let (left, top) = places.into_iter().find(free).unwrap_or(places[2]);
    let (left, top) = (left.max(0), top.max(0));
    fill(picture, left, top, left + width, top + height, colour);
    for (index, digit) in digits.bytes().enumerate() {
        let pattern = FIGURES[usize::from(digit - b'0')];
        for place in (0..15).filter(|place| pattern >> (14 - place) & 1 == 1) {
            let x = left + DIGIT + index as i64 * 4 * DIGIT + place % 3 * DIGIT;
            let y = top + DIGIT + place / 3 * DIGIT;
            fill(picture, x, y, x + DIGIT, y + DIGIT, [255, 255, 255]);
        }
    }
}

/// Returns a picture as PNG.
///
/// # Errors
/// If it has no pixels.
pub fn png(picture: &Picture) -> Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, picture.width, picture.height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(&picture.pixels));
    written.map_err(|error| Error::new(ErrorKind::Unreadable, "the picture has no pixels").because(error))?;
    Ok(bytes)
}
