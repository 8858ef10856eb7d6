//! A tree of summaries in the terminal.

use logothete::tree::{TreeEnd, TreeNodeInfo, TreeOverview};

use super::{Align, Style, indented, table, thousands};

/// The most nodes that are drawn; the levels below are only counted.
const MAX_DRAWN: usize = 60;

/// Returns the levels with their sizes, and a drawing of the upper ones; or the summaries of one level.
pub fn tree(overview: &TreeOverview, level: Option<u32>, style: Style) -> String {
    let mut out = match level {
        Some(level) => summaries(overview, level, style),
        None => format!("{}\n{}", levels(overview, style), drawing(overview, style)),
    };
    if let Some(stale) = &overview.stale {
        out.push_str(&format!("\n{}", style.warning(&indented(&format!("It is not searched: {stale}."), 0))));
    }
    out
}

fn levels(overview: &TreeOverview, style: Style) -> String {
    let chunks = thousands(u64::from(overview.chunks));
    let end = match overview.end {
        TreeEnd::TooFew => "there are not two to be grouped",
        TreeEnd::Whole => "one summary stands for all",
        TreeEnd::Inseparable => "those of the highest level do not stand apart",
        _ => "it has as many levels as it may",
    };
    let mut out = format!("Summaries of {chunks} chunks; {end}");
    if overview.drift > 0.0 {
        out.push_str(&format!("; {:.0} % of the chunks came or went since it grew", overview.drift * 100.0));
    }
    out.push_str("\n\n");
    let mut rows = vec![["level", "summaries", "chunks of each", "parts of each"].map(str::to_owned).to_vec()];
    for level in overview.levels.iter().rev() {
        let chunks = match (level.min_chunks, level.max_chunks) {
            (least, most) if least == most => thousands(u64::from(most)),
            (least, most) => format!("{} to {}", thousands(u64::from(least)), thousands(u64::from(most))),
        };
        rows.push(vec![
            level.level.to_string(),
            thousands(level.nodes as u64),
            chunks,
            format!("{:.1}", level.mean_parts),
        ]);
    }
    out.push_str(&table(&rows, &[Align::Right, Align::Right, Align::Right, Align::Right], 0, style));
    out
}

/// Draws the nodes from the top down to the level that has room.
fn drawing(overview: &TreeOverview, style: Style) -> String {
    let mut lowest = overview.levels.len() as u32 + 1;
    let mut drawn = 0;
    for level in overview.levels.iter().rev() {
        if drawn + level.nodes > MAX_DRAWN && drawn > 0 {
            break;
        }
        (drawn, lowest) = (drawn + level.nodes, level.level);
    }
    let mut out = String::new();
    let mut seen = vec![false; overview.nodes.len()];
    for top in overview.tops() {
        branch(overview, top, ("", ""), lowest, &mut seen, &mut out, style);
    }
    if lowest > 1 && !overview.levels.is_empty() {
        out.push_str(&style.faint(&format!(
            "Levels below {lowest} are not drawn: logothete tree --level {} tells their summaries, --page FILE writes them all.\n",
            lowest - 1
        )));
    }
    out
}

fn branch(
    overview: &TreeOverview,
    node: &TreeNodeInfo,
    (lead, below): (&str, &str),
    lowest: u32,
    seen: &mut [bool],
    out: &mut String,
    style: Style,
) {
    let chunks = match node.chunks {
        1 => "1 chunk".to_owned(),
        chunks => format!("{} chunks", thousands(u64::from(chunks))),
    };
    let again = seen.get(node.number as usize).copied().unwrap_or(false);
    let note = if again { "; drawn above" } else { "" };
    out.push_str(&format!(
        "{}{} {}\n",
        style.faint(lead),
        style.strong(&node.label.join(" · ")),
        style.faint(&format!("({chunks}{note})"))
    ));
    if let Some(seen) = seen.get_mut(node.number as usize) {
        *seen = true;
    }
    if again || node.level <= lowest {
        return;
    }
    let parts: Vec<&TreeNodeInfo> = node.nodes.iter().filter_map(|part| overview.nodes.get(*part as usize)).collect();
    for (at, part) in parts.iter().enumerate() {
        let is_last = at + 1 == parts.len();
        let lead = format!("{below}{}", if is_last { "└─ " } else { "├─ " });
        let next = format!("{below}{}", if is_last { "   " } else { "│  " });
        branch(overview, part, (&lead, &next), lowest, seen, out, style);
    }
}

/// Returns the summaries of a level, each with the places that it stands on.
fn summaries(overview: &TreeOverview, level: u32, style: Style) -> String {
    let mut out = String::new();
    for node in overview.level(level) {
        let size = format!("({} chunks)", thousands(u64::from(node.chunks)));
        out.push_str(&format!("{} {}\n", style.strong(&node.label.join(" · ")), style.faint(&size)));
        out.push_str(&indented(&node.summary, 2));
        let mut places: Vec<String> = Vec::new();
        for source in &node.sources {
            let place = source.location.to_string();
            if !places.contains(&place) {
                places.push(place);
            }
        }
        for place in places {
            out.push_str(&format!("    {}\n", style.place(&place)));
        }
        out.push('\n');
    }
    out.truncate(out.trim_end().len());
    out.push('\n');
    out
}
