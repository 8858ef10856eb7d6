//! The seeds of the fuzz targets and the documents of the demo, changed at random and parsed.

use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use logothete_core::document::Parser;
use logothete_parse::{
    CaptionParser, CodeParser, DelimitedParser, DocxParser, EmailParser, EpubParser, HtmlParser, JsonParser,
    MarkdownParser, PdfParser, PptxParser, SheetParser, TextParser,
};

#[path = "../../../../fuzz/src/read.rs"]
mod target;

/// Inputs are no longer than this.
const MAX_BYTES: usize = 300_000;
/// The stack of the thread that parses, as the library sets it.
const STACK: usize = 16 << 20;

/// Random numbers (Steele, Lea and Flood, “Fast splittable pseudorandom number generators”, 2014).
struct Random(u64);

impl Random {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `end`, which must not be zero.
    fn below(&mut self, end: usize) -> usize {
        (self.next() % end as u64) as usize
    }
}

fn parser_of(path: &Path) -> Option<Box<dyn Parser>> {
    Some(match path.extension()?.to_str()? {
        "srt" | "vtt" => Box::new(CaptionParser),
        "rs" => Box::new(CodeParser),
        "csv" => Box::new(DelimitedParser),
        "docx" => Box::new(DocxParser::default()),
        "eml" => Box::new(EmailParser::default()),
        "epub" => Box::new(EpubParser),
        "html" => Box::new(HtmlParser),
        "json" | "jsonl" => Box::new(JsonParser::default()),
        "md" => Box::new(MarkdownParser::default()),
        "pdf" => Box::new(PdfParser::default()),
        "pptx" => Box::new(PptxParser),
        "xlsx" => Box::new(SheetParser),
        "txt" => Box::new(TextParser),
        _ => return None,
    })
}

/// The files of a folder and the folders in it, sorted.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut paths: Vec<PathBuf> =
        fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()).collect();
    paths.sort();
    paths.into_iter().flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
}

/// Changes some bytes, removes or repeats a run of them, or cuts off the end.
fn change(bytes: &mut Vec<u8>, random: &mut Random) {
    for _ in 0..=random.below(6) {
        if bytes.is_empty() {
            return;
        }
        let at = random.below(bytes.len());
        let end = at + random.below((bytes.len() - at).min(64) + 1);
        match random.below(5) {
            0 => bytes[at] ^= 1 << random.below(8),
            1 => bytes[at] = random.below(256) as u8,
            2 => drop(bytes.drain(at..end)),
            3 => {
                let run = bytes[at..end].repeat(1 + random.below(20));
                bytes.splice(at..at, run);
            }
            _ => bytes.truncate(at),
        }
    }
}

fn number(variable: &str, default: u64) -> u64 {
    std::env::var(variable).ok().map_or(default, |value| value.parse().expect("a number"))
}

#[test]
#[ignore = "runs for FUZZ_SECONDS, 10 by default"]
fn no_changed_seed_panics() {
    let seconds = number("FUZZ_SECONDS", 10);
    let first = number("FUZZ_SEED", u64::from(std::process::id()));
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut seeds: Vec<(PathBuf, Vec<u8>)> = Vec::new();
    for path in files(&root.join("fuzz/seeds")).into_iter().chain(files(&root.join("demo/documents"))) {
        let bytes = fs::read(&path).expect("a seed");
        if parser_of(&path).is_some() && bytes.len() <= MAX_BYTES {
            seeds.push((path, bytes));
        }
    }
    assert!(seeds.len() > 10, "the seeds are missing");

    let end = Instant::now() + Duration::from_secs(seconds);
    let mut rounds = 0;
    while Instant::now() < end {
        let mut random = Random(first + rounds);
        let (path, bytes) = &seeds[random.below(seeds.len())];
        let mut bytes = bytes.clone();
        change(&mut bytes, &mut random);
        let parser = parser_of(path).expect("a parser");
        let name = path.file_name().expect("a name").to_string_lossy().into_owned();
        let run = move || catch_unwind(AssertUnwindSafe(|| target::read(&*parser, &name, &bytes)));
        let thread = std::thread::Builder::new().stack_size(STACK).spawn(run).expect("a thread");
        if let Err(panic) = thread.join().expect("an outcome") {
            eprintln!("{} panicked; run it again with FUZZ_SEED={}", path.display(), first + rounds);
            resume_unwind(panic);
        }
        rounds += 1;
    }
    println!("{rounds} inputs parsed, from FUZZ_SEED={first}");
    assert!(rounds > 0);
}
