//! Figures: pictures, and drawings made of many shapes that lie close together.

use logothete_core::document::Area;

use super::drawn::Drawn;
use super::lines::{Word, line, rows};
use super::sheet::PageFigure;

/// A figure is at least this wide and high, in points.
const LEAST: f32 = 36.0;
/// The lowest number of shapes in a drawing.
const MIN_SHAPES: usize = 6;
/// Anything that covers a larger share of the page is its background.
const BACKGROUND: f32 = 0.8;
/// The side of the squares into which the page is divided, in points. Shapes in squares that touch belong together.
const SQUARE: f32 = 9.0;

/// Finds the figures of a page and takes the words inside them out of `words`, and their rules out of the page's.
///
/// Costs a step for every square that a shape covers.
pub(super) fn take(drawn: &mut Drawn, words: &mut Vec<Word>) -> Vec<PageFigure> {
    if drawn.shapes.len() < MIN_SHAPES && drawn.pictures.is_empty() {
        return Vec::new();
    }
    let page = drawn.width * drawn.height;
    let mut areas: Vec<Area> = Vec::new();
    let pictures: Vec<Area> = drawn.pictures.iter().copied().filter(|area| !is_background(*area, page)).collect();
    for (area, shapes, has_picture) in clusters(drawn, &pictures) {
        let area = if shapes >= MIN_SHAPES { with_labels(with_strokes(area, drawn), words) } else { area };
        let large = area.width() >= LEAST && area.height() >= LEAST && !is_background(area, page);
        if large && (has_picture || shapes >= MIN_SHAPES) && !holds_prose(area, words) {
            areas.push(area);
        }
    }
    areas.sort_by(|a, b| a.top.total_cmp(&b.top));
    let mut figures = Vec::new();
    for area in areas {
        let inside = |word: &Word| area.holds((word.left + word.right) / 2.0, word.baseline - 0.3 * word.size);
        let own: Vec<Word> = words.iter().filter(|word| inside(word)).cloned().collect();
        words.retain(|word| !inside(word));
        drawn.rules.retain(|rule| {
            let (x, y) = if rule.level {
                ((rule.from + rule.to) / 2.0, rule.at)
            } else {
                (rule.at, (rule.from + rule.to) / 2.0)
            };
            !area.holds(x, y)
        });
        let text: Vec<String> = rows(own).iter().map(|row| line(row).text).collect();
        figures.push(PageFigure { area, text: text.join("\n") });
    }
    figures
}

/// Returns a drawing with the straight strokes that reach into it: bars, axes and their ticks.
fn with_strokes(mut area: Area, drawn: &Drawn) -> Area {
    /// A stroke this near belongs to the drawing, in points.
    const NEAR: f32 = 8.0;
    /// Strokes that hang on strokes are followed this far.
    const ROUNDS: usize = 4;
    let strokes = drawn.rules.iter().map(|rule| match rule.level {
        true => Area { left: rule.from, right: rule.to, top: rule.at, bottom: rule.at },
        false => Area { left: rule.at, right: rule.at, top: rule.from, bottom: rule.to },
    });
    let strokes: Vec<Area> = strokes.collect();
    for _ in 0..ROUNDS {
        let reach =
            Area { left: area.left - NEAR, top: area.top - NEAR, right: area.right + NEAR, bottom: area.bottom + NEAR };
        let grown = strokes.iter().filter(|stroke| stroke.meets(reach)).fold(area, |area, stroke| area.around(*stroke));
        if grown == area {
            break;
        }
        area = grown;
    }
    area
}

/// Returns a drawing with the figures along its axes.
fn with_labels(area: Area, words: &[Word]) -> Area {
    /// The highest distance of a label from its tick, in points.
    const NEAR: f32 = 12.0;
    let reach =
        Area { left: area.left - NEAR, top: area.top - NEAR, right: area.right + NEAR, bottom: area.bottom + NEAR };
    let is_label = |word: &&Word| {
        let figures = word.text.bytes().all(|b| b.is_ascii_digit() || matches!(b, b'.' | b',' | b'-' | b'%'));
        // `2.` counts something: a caption, an item.
        figures && !word.text.ends_with(['.', ',']) && word.text.len() <= 7 && word.area().meets(reach)
    };
    words.iter().filter(is_label).fold(area, |area, word| area.around(word.area()))
}

fn is_background(area: Area, page: f32) -> bool {
    area.width() * area.height() > BACKGROUND * page
}

/// Returns `true` if there is running text inside, so that it is a box and not a figure.
fn holds_prose(area: Area, words: &[Word]) -> bool {
    let inside =
        words.iter().filter(|word| area.holds((word.left + word.right) / 2.0, word.baseline - 0.3 * word.size));
    let lines = rows(inside.cloned().collect());
    let full = lines.iter().filter(|row| row.len() >= 6).count();
    full >= 4 && full * 2 > lines.len()
}

/// Shapes and pictures that lie together: their area, how many shapes there are, and whether there is a picture.
fn clusters(drawn: &Drawn, pictures: &[Area]) -> Vec<(Area, usize, bool)> {
    let (columns, rows) =
        ((drawn.width.max(drawn.height) / SQUARE) as usize + 2, (drawn.height.max(drawn.width) / SQUARE) as usize + 2);
    if columns * rows > 1_000_000 {
        return Vec::new();
    }
    let place = |at: f32, most: usize| ((at / SQUARE).max(0.0) as usize).min(most - 1);
    let squares = |area: Area| {
        let (left, right) = (place(area.left, columns), place(area.right, columns));
        (place(area.top, rows)..=place(area.bottom, rows))
            .flat_map(move |row| (left..=right).map(move |column| row * columns + column))
    };
    let mut covered = vec![false; columns * rows];
    let page = drawn.width * drawn.height;
    let shapes: Vec<Area> = drawn.shapes.iter().copied().filter(|area| !is_background(*area, page)).collect();
    // No real figure needs more squares.
    let mut steps = 4_000_000usize;
    for area in shapes.iter().chain(pictures) {
        for square in squares(*area) {
            covered[square] = true;
            steps = steps.saturating_sub(1);
        }
        if steps == 0 {
            return Vec::new();
        }
    }
    let mut group = vec![usize::MAX; columns * rows];
    let mut found: Vec<(Area, usize, bool)> = Vec::new();
    for start in 0..covered.len() {
        if !covered[start] || group[start] != usize::MAX {
            continue;
        }
        let number = found.len();
        found.push((Area { left: f32::INFINITY, top: f32::INFINITY, right: 0.0, bottom: 0.0 }, 0, false));
        let mut open = vec![start];
        group[start] = number;
        while let Some(square) = open.pop() {
            let (row, column) = (square / columns, square % columns);
            for near_row in row.saturating_sub(1)..=(row + 1).min(rows - 1) {
                for near in column.saturating_sub(1)..=(column + 1).min(columns - 1) {
                    let next = near_row * columns + near;
                    if covered[next] && group[next] == usize::MAX {
                        group[next] = number;
                        open.push(next);
                    }
                }
            }
        }
    }
    let mut add = |area: Area, picture: bool| {
        let square = place(area.top, rows) * columns + place(area.left, columns);
        if let Some((whole, shapes, has_picture)) = found.get_mut(group[square]) {
            *whole = whole.around(area);
            *shapes += usize::from(!picture);
            *has_picture |= picture && area.width() >= LEAST && area.height() >= LEAST;
        }
    };
    shapes.iter().for_each(|area| add(*area, false));
    pictures.iter().for_each(|area| add(*area, true));
    found
}
