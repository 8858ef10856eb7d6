//! A drawing of a pipeline: what documents go through, and below it what questions go through.

use logothete::{Journey, PipelineDescription, StageDescription};

use crate::html::escaped;

/// The size of a box, the space between two, and the margin of the drawing.
const BOX: (f32, f32) = (164.0, 78.0);
const GAP: (f32, f32) = (26.0, 14.0);
const MARGIN: f32 = 20.0;
/// So many boxes stand in a row; then the next row begins.
const MAX_COLUMNS: usize = 6;
/// So many characters of a name, and of each line of what a stage says, have room in a box.
const MAX_NAME: usize = 21;
const MAX_LINE: usize = 25;

/// A column of boxes: one stage, or the legs beside one another.
type Column<'a> = Vec<&'a StageDescription>;

/// Returns the drawing as SVG. A stage that runs for some questions only has a dashed border, and one of the user's own a double one; its title says all of it.
pub fn pipeline_drawing(description: &PipelineDescription) -> String {
    let mut rows: Vec<(&str, Vec<Column<'_>>)> = Vec::new();
    for (journey, start) in [(Journey::Building, "documents"), (Journey::Asking, "question")] {
        let mut columns: Vec<Column<'_>> = Vec::new();
        for stage in description.stages.iter().filter(|stage| stage.journey == journey) {
            let beside = ["leg", "check", "route"].contains(&stage.stage.as_str());
            match columns.last_mut() {
                Some(last) if beside && last[0].stage == stage.stage => last.push(stage),
                _ => columns.push(vec![stage]),
            }
        }
        for (at, part) in columns.chunks(MAX_COLUMNS).enumerate() {
            rows.push((if at == 0 { start } else { "" }, part.to_vec()));
        }
    }
    let height_of = |columns: &[Column<'_>]| {
        let most = columns.iter().map(Vec::len).max().unwrap_or(1) as f32;
        most * BOX.1 + (most - 1.0) * GAP.1
    };
    let left = MARGIN + 78.0 + GAP.0;
    let most = rows.iter().map(|(_, columns)| columns.len()).max().unwrap_or(1) as f32;
    let width = left + most * (BOX.0 + GAP.0) + MARGIN;
    let mut body = String::new();
    let mut top = MARGIN;
    for (start, columns) in &rows {
        let height = height_of(columns);
        let middle = top + height / 2.0;
        if !start.is_empty() {
            let below = middle + 5.0;
            body.push_str(&format!("<text class=\"start\" x=\"{MARGIN:.0}\" y=\"{below:.1}\">{start}</text>\n"));
        }
        // What comes first is reached from the word before it.
        let mut before = vec![(left - GAP.0 - BOX.0, middle)];
        for (at, column) in columns.iter().enumerate() {
            let x = left + at as f32 * (BOX.0 + GAP.0);
            let own = column.len() as f32 * BOX.1 + (column.len() as f32 - 1.0) * GAP.1;
            let mut here = Vec::new();
            for (place, stage) in column.iter().enumerate() {
                let y = middle - own / 2.0 + place as f32 * (BOX.1 + GAP.1);
                body.push_str(&boxed(stage, x, y));
                here.push((x, y + BOX.1 / 2.0));
            }
            for (from_x, from_y) in &before {
                for (to_x, to_y) in &here {
                    let (from, half) = (from_x + BOX.0, GAP.0 / 2.0);
                    body.push_str(&format!(
                        "<path d=\"M{from:.0} {from_y:.1} h{half:.0} V{to_y:.1} H{:.0}\"/>\n",
                        to_x - 6.0
                    ));
                }
            }
            before = here;
        }
        top += height + 44.0;
    }
    let height = top - 44.0 + MARGIN;
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width:.0} {height:.0}\" width=\"{width:.0}\" height=\"{height:.0}\" role=\"img\" aria-label=\"Pipeline\">\n\
         <style>text{{font:12px sans-serif;fill:#1d2b33}}.stage{{font-size:11px;fill:#5b6b73}}.name{{font-size:14px}}.start{{font-size:14px;font-style:italic}}\
         rect{{fill:#f4f8f9;stroke:#0f6a7c;stroke-width:1.2}}.ground{{fill:#fff;stroke:none}}.some{{stroke-dasharray:5 3}}.own{{fill:#fdf6e9;stroke:#8a5a00}}\
         path{{fill:none;stroke:#7d97a3;stroke-width:1.3;marker-end:url(#tip)}}#tip path{{fill:#7d97a3;stroke:none;marker-end:none}}</style>\n\
         <defs><marker id=\"tip\" viewBox=\"0 0 8 8\" refX=\"2\" refY=\"4\" markerWidth=\"7\" markerHeight=\"7\" orient=\"auto\"><path d=\"M0 0 L8 4 L0 8 z\"/></marker></defs>\n\
         <rect class=\"ground\" width=\"{width:.0}\" height=\"{height:.0}\"/>\n{body}</svg>\n"
    )
}

fn boxed(stage: &StageDescription, x: f32, y: f32) -> String {
    let mut classes = Vec::new();
    classes.extend(stage.own.then_some("own"));
    classes.extend(stage.when.as_ref().map(|_| "some"));
    let when = stage.when.as_ref().map(|when| format!("\nwhen {when}")).unwrap_or_default();
    let otherwise = stage.otherwise.as_ref().map(|other| format!("\n{other}")).unwrap_or_default();
    let title = escaped(&format!("{} {}: {}{when}{otherwise}", stage.stage, stage.name, stage.says));
    let said = stage.when.as_ref().map_or_else(|| stage.says.clone(), |when| format!("when {when}"));
    let (first, second) = lines(&said);
    format!(
        "<g><title>{title}</title><rect class=\"{}\" x=\"{x:.0}\" y=\"{y:.1}\" width=\"{:.0}\" height=\"{:.0}\" rx=\"6\"/>\
         <text class=\"stage\" x=\"{tx:.0}\" y=\"{:.1}\">{}</text><text class=\"name\" x=\"{tx:.0}\" y=\"{:.1}\">{}</text>\
         <text x=\"{tx:.0}\" y=\"{:.1}\">{}</text><text x=\"{tx:.0}\" y=\"{:.1}\">{}</text></g>\n",
        classes.join(" "),
        BOX.0,
        BOX.1,
        y + 17.0,
        escaped(&stage.stage),
        y + 35.0,
        escaped(&shortened(&stage.name, MAX_NAME)),
        y + 52.0,
        escaped(&first),
        y + 67.0,
        escaped(&second),
        tx = x + 9.0
    )
}

/// Breaks a text into the two lines that have room.
fn lines(text: &str) -> (String, String) {
    let mut first = String::new();
    let mut words = text.split(' ').peekable();
    while let Some(word) = words.next_if(|word| first.chars().count() + word.chars().count() < MAX_LINE) {
        first.push_str(if first.is_empty() { "" } else { " " });
        first.push_str(word);
    }
    let rest = words.collect::<Vec<_>>().join(" ");
    match first.is_empty() {
        true => (shortened(&rest, MAX_LINE), String::new()),
        false => (first, shortened(&rest, MAX_LINE)),
    }
}

/// Returns the beginning of a text that has room, at the end of a word if there is one.
fn shortened(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let cut: String = text.chars().take(most - 1).collect();
    let end = cut.rfind(' ').filter(|end| *end > most / 2).unwrap_or(cut.len());
    format!("{}…", cut[..end].trim_end_matches([',', ';', ' ']))
}
