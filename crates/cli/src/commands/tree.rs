//! `logothete tree`

use logothete::tree::{TreeOverview, TreeReport};
use logothete::{Error, ErrorKind, Result, StopToken};
use logothete_report::{tree_drawing, tree_page};
use serde_json::json;

use super::output::{check_free, write_file};
use super::{configuration, corpus, progress};
use crate::args::{CorpusArguments, TreeArguments};
use crate::view::{Style, thousands, tree};
use crate::{DONE, IN_PART, Output};

pub async fn run(at: &CorpusArguments, arguments: &TreeArguments, as_json: bool) -> Result<Output> {
    for file in arguments.page.iter().chain(&arguments.drawing) {
        check_free(file, arguments.force)?;
    }
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let style = Style::of_stdout();
    let (mut text, mut code) = (String::new(), DONE);
    if arguments.grow || arguments.anew {
        let stop = StopToken::default();
        progress::stop_on_interrupt(stop.clone());
        let report = corpus.grow_tree(arguments.anew, &stop).await?;
        text.push_str(&grown(&report, style));
        if report.broken.is_some() {
            code = IN_PART;
        }
    }
    let found = match arguments.documents.is_empty() {
        true => corpus.tree().await?,
        false => Some(corpus.tree_of(&arguments.documents).await?),
    };
    let Some(overview) = found else {
        let message =
            "the corpus has no tree of summaries; grow one with logothete tree --grow, or set kind in [tree] and build";
        return Err(Error::new(ErrorKind::NotFound, message));
    };
    check_level(&overview, arguments.level)?;
    if let Some(file) = &arguments.page {
        write_file(file, tree_page(&overview).as_bytes(), arguments.force)?;
        text.push_str(&format!("The page is in {}.\n\n", style.place(&file.display().to_string())));
    }
    if let Some(file) = &arguments.drawing {
        write_file(file, tree_drawing(&overview).as_bytes(), arguments.force)?;
        text.push_str(&format!("The drawing is in {}.\n\n", style.place(&file.display().to_string())));
    }
    text.push_str(&tree(&overview, arguments.level, style));
    // A large tree is many times larger as JSON.
    let json = if as_json { json!(overview) } else { json!(null) };
    Ok(Output { text, json, code })
}

fn check_level(overview: &TreeOverview, level: Option<u32>) -> Result<()> {
    let levels = overview.levels.len() as u32;
    match level {
        Some(level) if !(1..=levels).contains(&level) => {
            let message = match levels {
                0 => "the tree has no level: there are too few chunks, or they are all alike".to_owned(),
                levels => format!("the tree has the levels 1 to {levels}"),
            };
            Err(Error::new(ErrorKind::InvalidRequest, message))
        }
        _ => Ok(()),
    }
}

/// Says what became of a tree.
pub fn grown(report: &TreeReport, style: Style) -> String {
    let told = thousands(report.told as u64);
    let mut text = match report.grown {
        true => format!("The tree has grown: {told} summaries of {} chunks", thousands(u64::from(report.chunks))),
        false if report.joined + report.gone == 0 => "The tree is as it was".to_owned(),
        false => format!(
            "The tree has followed: {} chunks joined, {} are gone, and {told} of {} summaries were told anew",
            thousands(report.joined as u64),
            thousands(report.gone as u64),
            thousands(report.nodes as u64)
        ),
    };
    text.push_str(".\n");
    if let Some(reason) = &report.broken {
        text.push_str(&style.warning(&format!("It is not whole: {reason}. Grow it again to go on.\n")));
    }
    text.push('\n');
    text
}
