//! `logothete chunk`

use logothete::chunk::{self, Chunk, Chunker, Review};
use logothete::config::{ChunkUnit, Strategy};
use logothete::document::{Document, Span};
use logothete::{Config, Error, ErrorKind, Pipeline, Result};
use serde_json::{Value, json};

use super::{Parsed, code_of, configuration, failures, parsed};
use crate::Output;
use crate::args::{ChunkArguments, CorpusArguments};
use crate::view::{Align, Style, broken, count, histogram, indented, shortened, side_by_side, strip, table, width};

pub fn run(at: &CorpusArguments, arguments: &ChunkArguments) -> Result<Output> {
    let (mut config, _) = configuration(at)?;
    set(&mut config, arguments)?;
    match &arguments.compare {
        None => show(&config, arguments),
        Some(pair) => compare(&config, pair, arguments),
    }
}

/// Arguments take precedence over the configuration.
fn set(config: &mut Config, arguments: &ChunkArguments) -> Result<()> {
    let chunk = &mut config.chunk;
    if let Some(name) = &arguments.strategy {
        chunk.strategy = Strategy::named(name)?;
    }
    if let Some(unit) = &arguments.unit {
        chunk.unit = ChunkUnit::named(unit)?;
        // A limit in another unit means nothing in this one.
        (chunk.limit, chunk.overlap) = (None, None);
    }
    if arguments.limit.is_some() {
        // A limit alone keeps the share of the overlap sensible.
        (chunk.limit, chunk.overlap) = (arguments.limit, None);
    }
    chunk.overlap = arguments.overlap.or(chunk.overlap);
    if !arguments.separators.is_empty() {
        chunk.separators.clone_from(&arguments.separators);
    }
    if let Some(marker) = &arguments.marker {
        chunk.marker.clone_from(marker);
    }
    chunk.rows = arguments.rows.unwrap_or(chunk.rows);
    Ok(())
}

/// Documents as one setting cuts them.
struct Cut {
    name: String,
    chunker: std::sync::Arc<dyn Chunker>,
    chunks: Vec<Vec<Chunk>>,
    review: Review,
}

impl Cut {
    fn new(config: &Config, parsed: &Parsed) -> Result<Self> {
        let pipeline = super::pipeline(config).map_err(|error| Error::new(error.kind(), error.message()))?;
        let (encoder, chunker) = (pipeline.encoder()?, pipeline.chunker()?);
        let mut cut = Self {
            name: config.chunk.strategy.name().to_owned(),
            chunker,
            chunks: Vec::new(),
            review: Review::default(),
        };
        for document in parsed.documents.iter().map(|read| &read.document) {
            let chunks = chunk::chunks(document, &document.name, &*cut.chunker)?;
            Pipeline::review(&mut cut.review, document, &chunks, &*cut.chunker, &*encoder);
            cut.chunks.push(chunks);
        }
        Ok(cut)
    }

    fn unit(&self) -> &'static str {
        self.chunker.limit().map_or("words", |limit| limit.unit().name())
    }

    fn max(&self) -> Option<usize> {
        self.chunker.limit().and_then(chunk::Limit::most)
    }

    fn overlap(&self) -> usize {
        self.chunker.limit().map_or(0, chunk::Limit::overlap)
    }

    fn advice(&self) -> Vec<String> {
        self.review.advice(&*self.chunker)
    }

    /// Returns the settings on one line.
    fn settings(&self) -> String {
        match self.max() {
            Some(max) => format!("{}, {max} {}, {} repeated", self.name, self.unit(), self.overlap()),
            None => format!("{}, no limit", self.name),
        }
    }

    fn json(&self) -> Value {
        json!({
            "strategy": self.name,
            "unit": self.unit(),
            "limit": self.max(),
            "overlap": self.overlap(),
            "sizes": self.review.spread(),
            "cut_sentences": self.review.cut_sentences,
            "too_long": self.review.too_long,
            "repeated": rounded(self.review.repeated_share()),
            "advice": self.advice(),
        })
    }

    /// Lists the number of chunks of each document, and their lengths.
    fn per_document<'a>(&'a self, parsed: &'a Parsed) -> impl Iterator<Item = (&'a Document, Review)> {
        parsed.documents.iter().zip(&self.chunks).map(|(read, chunks)| {
            let mut review = Review::default();
            review.add(chunks);
            (&read.document, review)
        })
    }
}

/// Returns a share to four decimals.
fn rounded(share: f64) -> f64 {
    (share * 1e4).round() / 1e4
}

fn show(config: &Config, arguments: &ChunkArguments) -> Result<Output> {
    let parsed = parsed(config, &arguments.files)?;
    let cut = Cut::new(config, &parsed)?;
    let style = Style::of_stdout();
    let mut text = String::new();
    for (read, chunks) in parsed.documents.iter().zip(&cut.chunks) {
        text.push_str(&drawn(&read.document, chunks, cut.unit(), style));
    }
    if parsed.documents.len() > 1 {
        text.push_str(&documents(&cut, &parsed, style));
    }
    text.push_str(&sizes(&cut, style));
    text.push_str(&advice(&cut.advice(), style));
    text.push_str(&failures(&parsed.failed, style));
    let mut json = cut.json();
    json["documents"] = cut
        .per_document(&parsed)
        .map(|(document, review)| json!({ "document": document.name, "chunks": review.chunks, "sizes": review.spread() }))
        .collect();
    json["failed"] = json!(parsed.failed);
    json["chunks"] = json!(cut.chunks.concat());
    Ok(Output { text, json, code: code_of(parsed.documents.len(), &parsed.failed) })
}

/// Draws the text of a document with its cuts. Text in two chunks is tinted, text in none is dim.
fn drawn(document: &Document, chunks: &[Chunk], unit: &str, style: Style) -> String {
    let mut out = format!("{}  {}\n", style.strong(&document.name), count(chunks.len() as u64, "chunk", "chunks"));
    let mut bounds: Vec<usize> = chunks.iter().flat_map(|chunk| [chunk.span.start, chunk.span.end]).collect();
    bounds.extend([0, document.text.len()]);
    bounds.sort_unstable();
    bounds.dedup();
    let mut next = 0;
    for pair in bounds.windows(2) {
        while let Some(chunk) = chunks.get(next).filter(|chunk| chunk.span.start <= pair[0]) {
            next += 1;
            out.push_str(&cut_line(next, chunk, unit, style));
        }
        let holding = chunks[next.saturating_sub(3)..next].iter().filter(|chunk| chunk.span.end > pair[0]).count();
        let lines = document.slice(Span::new(pair[0], pair[1])).split('\n').filter(|line| !line.trim().is_empty());
        for line in lines.flat_map(|line| broken(line, width() - 4)) {
            out.push_str(&match holding {
                0 => format!("  {} {}\n", style.faint("×"), style.faint(&line)),
                1 => format!("    {line}\n"),
                _ => format!("  {} {}\n", style.faint("↕"), style.tinted(&line)),
            });
        }
    }
    out.push('\n');
    out
}

/// Returns the line at which a chunk begins.
fn cut_line(number: usize, chunk: &Chunk, unit: &str, style: Style) -> String {
    let size = count(chunk.size as u64, unit.trim_end_matches('s'), unit);
    let mut facts = vec![format!("{size} and {} of context", chunk.context_size)];
    facts.extend(chunk.pages.map(|pages| pages.to_string()));
    facts.extend(chunk.section.last().cloned());
    if chunk.cuts_sentence {
        facts.push("cuts a sentence".to_owned());
    }
    let head = shortened(&format!("━━ {number} ━━ {}", facts.join(", ")), width());
    format!("\n{}\n", style.place(&head))
}

fn documents(cut: &Cut, parsed: &Parsed, style: Style) -> String {
    let mut rows =
        vec![["Document", "Chunks", "Shortest", "Median", "Longest", "Cut sentences"].map(String::from).to_vec()];
    for (document, review) in cut.per_document(parsed) {
        let spread = review.spread();
        let numbers = [review.chunks, spread.shortest, spread.median, spread.longest, review.cut_sentences];
        rows.push([document.name.clone()].into_iter().chain(numbers.map(|number| number.to_string())).collect());
    }
    let right = [Align::Right; 5];
    table(&rows, &[&[Align::Left], right.as_slice()].concat(), 0, style) + "\n"
}

/// Prints the number of chunks, their lengths, and a histogram.
fn sizes(cut: &Cut, style: Style) -> String {
    if cut.review.chunks == 0 {
        return String::new();
    }
    let spread = cut.review.spread();
    let chunks = count(cut.review.chunks as u64, "chunk", "chunks");
    let unit = cut.unit();
    let spread = match cut.review.chunks {
        1 => count(spread.shortest as u64, unit.trim_end_matches('s'), unit),
        _ => format!(
            "{} to {} {unit}, half of them {} to {}; {:.0} % of the text stands in two",
            spread.shortest,
            spread.longest,
            spread.quarter,
            spread.three_quarters,
            cut.review.repeated_share() * 100.0
        ),
    };
    format!(
        "{}  {spread}\n{}\n{}",
        style.strong(&chunks),
        style.faint(&cut.settings()),
        histogram(cut.review.sizes(), cut.max(), width()),
    )
}

fn advice(advice: &[String], style: Style) -> String {
    if advice.is_empty() {
        return String::new();
    }
    let lines: String = advice.iter().map(|advice| indented(advice, 2)).collect();
    format!("\n{}\n{lines}", style.warning("To consider"))
}

/// Two settings side by side.
fn compare(config: &Config, pair: &str, arguments: &ChunkArguments) -> Result<Output> {
    let Some((first, second)) = pair.split_once(',') else {
        let message =
            format!("{pair:?} is one setting; write two, such as structure,window or structure:80,structure:150");
        return Err(Error::new(ErrorKind::Configuration, message));
    };
    let parsed = parsed(config, &arguments.files)?;
    let cuts = [Cut::new(&setting(config, first)?, &parsed)?, Cut::new(&setting(config, second)?, &parsed)?];
    let style = Style::of_stdout();
    let mut text = cut_strips(&cuts, &parsed, style);
    let half = (width() - 3) / 2;
    let drawn = [0, 1].map(|index: usize| {
        let cut = &cuts[index];
        format!("{}\n{}", cut.settings(), histogram(cut.review.sizes(), cut.max(), half))
    });
    text.push_str(&format!("{}\n", side_by_side(&drawn[0], &drawn[1], half)));
    text.push_str(&figures(&cuts, style));
    for cut in &cuts {
        let named: Vec<String> = cut.advice().iter().map(|advice| format!("{}: {advice}", cut.name)).collect();
        text.push_str(&advice(&named, style));
    }
    text.push_str(&failures(&parsed.failed, style));
    let runs: Vec<Value> = cuts
        .iter()
        .map(|cut| {
            let mut json = cut.json();
            json["chunks"] = json!(cut.review.chunks);
            json["cut_share"] = json!(rounded(cut.review.cut_share()));
            json["documents"] = cut
                .per_document(&parsed)
                .map(|(document, review)| json!({ "document": document.name, "chunks": review.chunks }))
                .collect();
            json
        })
        .collect();
    let json = json!({ "runs": runs, "failed": parsed.failed });
    Ok(Output { text, json, code: code_of(parsed.documents.len(), &parsed.failed) })
}

/// Shows the cuts of both settings in each document, a line a setting. Documents with equal cuts are only counted.
fn cut_strips(cuts: &[Cut; 2], parsed: &Parsed, style: Style) -> String {
    let mut out = String::new();
    let mut alike = 0;
    for (index, read) in parsed.documents.iter().enumerate() {
        let starts = [0, 1].map(|setting: usize| -> Vec<usize> {
            cuts[setting].chunks[index].iter().map(|chunk| chunk.span.start).collect()
        });
        if starts[0] == starts[1] {
            alike += 1;
            continue;
        }
        out.push_str(&format!("{}\n", style.place(&read.document.name)));
        for (cut, starts) in cuts.iter().zip(starts) {
            let name = shortened(&cut.name, 12);
            let line = strip(&starts, read.document.text.len(), width() - 22);
            out.push_str(&format!("  {name:<12} {line} {:>4}\n", starts.len()));
        }
    }
    match alike {
        0 => out + "\n",
        alike => {
            out + &format!("{} in the same places\n\n", count(alike as u64, "document is cut", "documents are cut"))
        }
    }
}

/// Returns the counts of both settings, side by side.
fn figures(cuts: &[Cut; 2], style: Style) -> String {
    let row = |name: &str, value: &dyn Fn(&Cut) -> String| vec![name.to_owned(), value(&cuts[0]), value(&cuts[1])];
    let rows = vec![
        row("", &|cut| cut.settings()),
        row("Chunks", &|cut| cut.review.chunks.to_string()),
        row("Sizes", &|cut| {
            let spread = cut.review.spread();
            format!("{} to {} {}, median {}", spread.shortest, spread.longest, cut.unit(), spread.median)
        }),
        row("Half of them", &|cut| {
            let spread = cut.review.spread();
            format!("{} to {}", spread.quarter, spread.three_quarters)
        }),
        row("Text in two chunks", &|cut| format!("{:.0} %", cut.review.repeated_share() * 100.0)),
        row("Cut a sentence", &|cut| format!("{} ({:.0} %)", cut.review.cut_sentences, cut.review.cut_share() * 100.0)),
    ];
    table(&rows, &[Align::Left; 3], 0, style)
}

/// Parses a setting: a strategy, with an optional limit and overlap.
fn setting(config: &Config, written: &str) -> Result<Config> {
    let mut config = config.clone();
    let mut parts = written.trim().split(':');
    config.chunk.strategy = Strategy::named(parts.next().unwrap_or_default())?;
    let mut number = |what: &str| match parts.next() {
        None => Ok(None),
        Some(part) => part.parse::<usize>().map(Some).map_err(|_| {
            let message = format!("{part:?} is no number for the {what} of {written:?}; write STRATEGY:LIMIT:OVERLAP");
            Error::new(ErrorKind::Configuration, message)
        }),
    };
    if let Some(limit) = number("limit")? {
        (config.chunk.limit, config.chunk.overlap) = (Some(limit), number("overlap")?);
    }
    Ok(config)
}
