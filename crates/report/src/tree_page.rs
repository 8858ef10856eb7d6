//! A tree of summaries: a page whose branches open and close, and a drawing.

use logothete::tree::{TreeNodeInfo, TreeOverview};

use crate::html::{escaped, page};

const STYLE: &str = include_str!("tree_page.css");
/// A branch is open when the page is opened if so many nodes are above it in all.
const OPEN: usize = 12;
/// The most nodes of a level that is drawn; lower levels are left out of the drawing.
const MAX_ROWS: usize = 160;
/// The drawing: the height of a row, the width of a level, and the margin.
const ROW: f32 = 24.0;
const COLUMN: f32 = 270.0;
const MARGIN: f32 = 16.0;

/// Returns a page with the tree: every summary with its label, its size and the places that it stands on, in branches that open and close.
///
/// The page is complete in itself and has no script; nothing of a document can become markup in it. A node that is part of several is told where it comes first.
pub fn tree_page(overview: &TreeOverview) -> String {
    let levels: String = overview
        .levels
        .iter()
        .rev()
        .map(|level| {
            let chunks = match (level.min_chunks, level.max_chunks) {
                (least, most) if least == most => most.to_string(),
                (least, most) => format!("{least} to {most}"),
            };
            format!(
                "<tr><td>{}</td><td>{}</td><td>{chunks}</td><td>{:.1}</td></tr>\n",
                level.level, level.nodes, level.mean_parts
            )
        })
        .collect();
    let mut content = format!(
        "<h1>Summaries of {} chunks</h1>\n<table class=\"levels\">\n<tr><th>level</th><th>summaries</th><th>chunks of each</th><th>parts of each</th></tr>\n{levels}</table>\n",
        overview.chunks
    );
    if let Some(stale) = &overview.stale {
        content.push_str(&format!("<p class=\"stale\">It is not searched: {}.</p>\n", escaped(stale)));
    }
    content.push_str("<div class=\"tree\">\n");
    let (mut seen, mut told) = (vec![false; overview.nodes.len()], 0);
    for top in overview.tops() {
        branch(overview, top, &mut seen, &mut told, &mut content);
    }
    content.push_str("</div>\n");
    page("Tree of summaries", STYLE, &content)
}

fn branch(overview: &TreeOverview, node: &TreeNodeInfo, seen: &mut [bool], told: &mut usize, out: &mut String) {
    let label = escaped(&node.label.join(" · "));
    let again = seen.get(node.number as usize).copied().unwrap_or(false);
    if again {
        out.push_str(&format!(
            "<p class=\"again\"><a href=\"#n{}\">{label}</a> <small>told above</small></p>\n",
            node.number
        ));
        return;
    }
    if let Some(seen) = seen.get_mut(node.number as usize) {
        *seen = true;
    }
    let open = if *told < OPEN && node.level > 1 { " open" } else { "" };
    *told += 1;
    out.push_str(&format!(
        "<details id=\"n{}\"{open}>\n<summary><strong>{label}</strong> <small>{} chunks</small></summary>\n<p>{}</p>\n",
        node.number,
        node.chunks,
        escaped(&node.summary)
    ));
    let mut places: Vec<String> = node.sources.iter().map(|source| source.location.to_string()).collect();
    places.dedup();
    if !places.is_empty() {
        let listed: String = places.iter().map(|place| format!("<li>{}</li>", escaped(place))).collect();
        let by = if node.written { "Stands on" } else { "From" };
        out.push_str(&format!("<p class=\"from\">{by}</p>\n<ul class=\"from\">{listed}</ul>\n"));
    }
    for part in node.nodes.iter().filter_map(|part| overview.nodes.get(*part as usize)) {
        branch(overview, part, seen, told, out);
    }
    out.push_str("</details>\n");
}

/// A node in the drawing.
struct Placed<'o> {
    node: &'o TreeNodeInfo,
    y: f32,
    /// The places of its parts in the drawing.
    parts: Vec<usize>,
}

/// Returns a drawing of the tree as SVG that stands alone: the top on the left, and what it stands on to the right. Levels with too many nodes are left out.
pub fn tree_drawing(overview: &TreeOverview) -> String {
    let drawn = overview.levels.iter().filter(|level| level.nodes <= MAX_ROWS).map(|level| level.level);
    let (lowest, highest) = (drawn.clone().min().unwrap_or(1), overview.levels.len() as u32);
    let mut placed: Vec<Placed<'_>> = Vec::new();
    let mut at = vec![None; overview.nodes.len()];
    let mut rows = 0;
    for top in overview.tops().into_iter().filter(|top| top.level >= lowest) {
        place(overview, top, lowest, &mut placed, &mut at, &mut rows);
    }
    let x = |level: u32| MARGIN + (highest - level.min(highest)) as f32 * COLUMN;
    let (width, height) = (x(lowest) + COLUMN + MARGIN, rows as f32 * ROW + 2.0 * MARGIN);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width:.0} {height:.0}\" width=\"{width:.0}\" height=\"{height:.0}\" role=\"img\" aria-label=\"Tree of summaries\">\n\
         <style>text{{font:13px sans-serif;fill:#1d2b33}}.size{{fill:#5b6b73}}path{{fill:none;stroke:#7d97a3;stroke-width:1.2}}circle{{fill:#0f6a7c}}rect{{fill:#fff}}</style>\n\
         <rect width=\"{width:.0}\" height=\"{height:.0}\"/>\n"
    );
    for one in &placed {
        for part in one.parts.iter().filter_map(|part| placed.get(*part)) {
            let (from, to) = (x(one.node.level), x(part.node.level));
            let middle = to - 26.0;
            let start = (to - 60.0).max(from + 4.0);
            out.push_str(&format!(
                "<path d=\"M{from:.0} {y:.1} L{start:.0} {y:.1} C{middle:.0} {y:.1} {middle:.0} {z:.1} {to:.0} {z:.1}\"/>\n",
                y = one.y + 6.0,
                z = part.y + 6.0
            ));
        }
    }
    for Placed { node, y, .. } in &placed {
        let x = x(node.level);
        out.push_str(&format!(
            "<circle cx=\"{x:.0}\" cy=\"{:.1}\" r=\"4\"/><text x=\"{:.0}\" y=\"{y:.1}\">{} <tspan class=\"size\">{}</tspan></text>\n",
            y + 6.0,
            x + 8.0,
            escaped(&node.label.join(" · ")),
            node.chunks
        ));
    }
    out + "</svg>\n"
}

/// Places a node in the middle of its parts, and those of the lowest level in rows. Returns its place.
fn place<'o>(
    overview: &'o TreeOverview,
    node: &'o TreeNodeInfo,
    lowest: u32,
    placed: &mut Vec<Placed<'o>>,
    at: &mut [Option<usize>],
    rows: &mut usize,
) -> usize {
    if let Some(known) = at.get(node.number as usize).copied().flatten() {
        return known;
    }
    let mut parts = Vec::new();
    if node.level > lowest {
        for part in node.nodes.iter().filter_map(|part| overview.nodes.get(*part as usize)) {
            parts.push(place(overview, part, lowest, placed, at, rows));
        }
    }
    let y = match parts.iter().map(|part| placed[*part].y).collect::<Vec<f32>>() {
        own if own.is_empty() => {
            *rows += 1;
            MARGIN + (*rows as f32 - 0.5) * ROW
        }
        own => own.iter().sum::<f32>() / own.len() as f32,
    };
    placed.push(Placed { node, y, parts });
    if let Some(at) = at.get_mut(node.number as usize) {
        *at = Some(placed.len() - 1);
    }
    placed.len() - 1
}
