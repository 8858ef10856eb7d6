//! Our reading of PDF files beside that of `pdftotext` (Debian: poppler-utils): words, their order, headings, tables,
//! processor time, memory. `cargo run --release -p logothete-bench --bin pdf -- FILE…`

use std::fs;
use std::process::{Command, ExitCode, Stdio};

use logothete_bench::{common_in_order, median, word_f1, words};
use logothete_core::document::{BlockKind, Budget, Document, Input, Parser};
use logothete_parse::{OutlineEntry, PdfParser};

/// How often each program is timed.
const REPEATS: usize = 5;

fn main() -> ExitCode {
    let files: Vec<String> = std::env::args().skip(1).collect();
    if let [only, file] = &files[..]
        && only == "--parse-only"
    {
        // The process that is timed.
        let bytes = fs::read(file).unwrap_or_default();
        return match read(file, &bytes) {
            Ok(document) if !document.text.is_empty() => ExitCode::SUCCESS,
            _ => ExitCode::FAILURE,
        };
    }
    println!(
        "{:<20} {:>6} {:>8} {:>8} {:>9} {:>7} {:>6} {:>9}",
        "file", "pages", "word F1", "order", "headings", "tables", "time", "memory"
    );
    for file in &files {
        if let Err(problem) = compare(file) {
            println!("{file}: {problem}");
        }
    }
    println!("time: processor time of ours over that of pdftotext -layout, medians of {REPEATS} interleaved runs");
    ExitCode::SUCCESS
}

/// Reads a file without a look at its outline.
fn read(name: &str, bytes: &[u8]) -> logothete_core::Result<Document> {
    let budget = Budget::default();
    PdfParser::default().use_outline(false).parse(&Input { name, bytes, budget: &budget })
}

fn compare(file: &str) -> Result<(), String> {
    let bytes = fs::read(file).map_err(|error| error.to_string())?;
    let document = read(file, &bytes).map_err(|error| error.to_string())?;
    let raw =
        Command::new("pdftotext").args(["-raw", file, "-"]).output().map_err(|error| format!("pdftotext: {error}"))?;
    let raw = String::from_utf8_lossy(&raw.stdout);
    let theirs: Vec<Vec<String>> = raw.split('\u{c}').map(words).collect();
    let ours: Vec<Vec<String>> = (1..=document.page_count()).map(|page| words(&page_text(&document, page))).collect();
    let in_order: usize = ours.iter().zip(&theirs).map(|(ours, theirs)| common_in_order(ours, theirs)).sum();
    let (ours, theirs) = (ours.concat(), theirs.concat());
    let tables = document.blocks.iter().filter(|block| block.kind == BlockKind::Table).count();
    let this = std::env::current_exe().map_err(|error| error.to_string())?;
    let mut ratios = Vec::new();
    let mut memory = 0;
    for _ in 0..REPEATS {
        let (mine, peak) = cost(Command::new(&this).args(["--parse-only", file]))?;
        let (other, _) = cost(Command::new("pdftotext").args(["-layout", file, "/dev/null"]))?;
        ratios.push(mine / other.max(0.005));
        memory = memory.max(peak);
    }
    println!(
        "{:<20} {:>6} {:>8.4} {:>8.4} {:>9.3} {:>7} {:>6.2} {:>6} MB",
        file.rsplit('/').next().unwrap_or(file),
        document.page_count(),
        word_f1(&ours, &theirs),
        in_order as f64 / theirs.len().max(1) as f64,
        heading_f1(&document, &logothete_parse::pdf_outline(&bytes).unwrap_or_default()),
        tables,
        median(ratios),
        memory / 1024
    );
    Ok(())
}

/// How well our headings agree with the file's outline, levels 1 to 3: the same words, numbers before them aside. The
/// parser does not look at the outline. Headings deeper than the outline goes are on neither side.
fn heading_f1(document: &Document, outline: &[OutlineEntry]) -> f64 {
    let key = |text: &str| {
        let all = words(text);
        let number = |word: &&String| word.chars().all(|c| c.is_ascii_digit()) || word.len() == 1;
        let bare: Vec<&str> = all.iter().skip_while(number).map(String::as_str).collect();
        if bare.is_empty() { all.concat() } else { bare.concat() }
    };
    let wanted: Vec<String> = outline.iter().filter(|entry| entry.level <= 3).map(|entry| key(&entry.title)).collect();
    let deepest = outline.iter().map(|entry| entry.level).max().unwrap_or(0).min(3);
    let headings = document.blocks.iter().filter(|block| block.kind == BlockKind::Heading && block.level <= deepest);
    let found: Vec<String> = headings.map(|block| key(document.block_text(block))).collect();
    if std::env::var_os("SHOW_HEADINGS").is_some() {
        let only = |some: &[String], other: &[String]| -> Vec<String> {
            some.iter().filter(|key| !other.contains(key)).take(25).cloned().collect()
        };
        println!("  missed {:?}\n  extra {:?}", only(&wanted, &found), only(&found, &wanted));
    }
    word_f1(&found, &wanted)
}

/// The text of a page with its furniture.
fn page_text(document: &Document, page: u32) -> String {
    let starts = &document.page_starts;
    let Some(index) = starts.iter().position(|start| start.page == page) else { return String::new() };
    let end = starts.get(index + 1).map_or(document.text.len(), |next| next.start);
    let furniture =
        document.blocks.iter().filter_map(|block| block.furniture.as_ref()).filter(|part| part.page == page);
    let mut text: String = furniture.map(|part| part.text.clone() + "\n").collect();
    text.push_str(&document.text[starts[index].start..end]);
    text
}

/// Processor seconds and peak memory in kilobytes of a process, by GNU time's measure of its children.
fn cost(command: &mut Command) -> Result<(f64, u64), String> {
    let mut timed = Command::new("time");
    timed.args(["-f", "%U %S %M"]).arg(command.get_program()).args(command.get_args());
    let output = timed.stdout(Stdio::null()).output().map_err(|error| format!("time (Debian: time): {error}"))?;
    let text = String::from_utf8_lossy(&output.stderr);
    let last = text.lines().last().unwrap_or_default();
    let numbers: Vec<f64> = last.split(' ').filter_map(|number| number.parse().ok()).collect();
    match numbers[..] {
        [user, system, peak] => Ok((user + system, peak as u64)),
        _ => Err(format!("no times in {last:?}")),
    }
}
