//! Recognition of scanned pages with the program `tesseract`, where it is installed.

use std::io::{Read, Write};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

use logothete_core::document::{Area, PageRecogniser, Picture, SeenWord};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::threads::process;

/// The advice if the program is missing.
pub(super) const ADVICE: &str =
    "to have such pages read, install the program tesseract (Debian: tesseract-ocr) and build again";
/// The advice if the build cannot draw pages.
pub(super) const ADVICE_WITHOUT_PICTURES: &str =
    "to have such pages read, build this program with the feature picture, and install the program tesseract";
/// The advice if recognition is off.
pub(super) const ADVICE_OFF: &str = "to have such pages read, set ocr = \"auto\" in [parse]";

/// More bytes are no page of words.
const MAX_OUTPUT: u64 = 50_000_000;

/// Runs the program `tesseract` on pictures of pages. Nothing leaves the machine.
#[derive(Clone, Debug)]
pub struct Tesseract {
    program: PathBuf,
    languages: String,
    max_time: Duration,
}

impl Tesseract {
    /// Returns the program on the PATH, if there is one. `languages` are its names for them, such as `eng+deu`; empty takes its
    /// own default.
    pub fn find(languages: &str) -> Option<Self> {
        static FOUND: OnceLock<Option<PathBuf>> = OnceLock::new();
        let program = FOUND.get_or_init(|| {
            let folders = std::env::var_os("PATH")?;
            let name = format!("tesseract{}", std::env::consts::EXE_SUFFIX);
            std::env::split_paths(&folders).map(|folder| folder.join(&name)).find(|file| file.is_file())
        });
        let max_time = Duration::from_secs(120);
        program.clone().map(|program| Self { program, languages: languages.to_owned(), max_time })
    }

    /// Sets the time that a page may take; by default two minutes. Then the program is ended.
    #[must_use]
    pub fn max_time(mut self, max_time: Duration) -> Self {
        self.max_time = max_time;
        self
    }
}

impl PageRecogniser for Tesseract {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["tesseract".to_owned(), self.languages.clone()])
    }

    fn recognise(&self, picture: &Picture) -> Result<Vec<SeenWord>> {
        let failed = |error: std::io::Error| {
            Error::new(ErrorKind::System, format!("tesseract could not be run: {error}")).because(error)
        };
        let png = logothete_parse::png(picture)?;
        let mut command = Command::new(&self.program);
        command.args(["stdin", "stdout", "--dpi", "216"]);
        if !self.languages.is_empty() {
            command.args(["-l", &self.languages]);
        }
        command.arg("tsv").env("OMP_THREAD_LIMIT", "1");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().map_err(failed)?;
        let (input, out, errors) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        // Written beside reading: the pipe holds less than a picture. A process that it starts may keep its pipes open, so that no thread is waited for.
        thread::spawn(move || input.map(|mut input| input.write_all(&png)));
        let (out, errors) = (reading(out), reading(errors));
        let until = Instant::now() + self.max_time;
        while !process::has_ended(&child) && Instant::now() < until {
            thread::sleep(Duration::from_millis(5));
        }
        let has_ended = process::has_ended(&child);
        // It is in the group of this process, and whoever ends that ends both.
        let status = process::end(&mut child).filter(|_| has_ended);
        let late = || {
            let message = format!("tesseract took more than {} s for a page and was ended", self.max_time.as_secs());
            Error::new(ErrorKind::Limit, message)
        };
        let status = status.ok_or_else(late)?;
        let left = until.saturating_duration_since(Instant::now());
        let out = out.recv_timeout(left).map_err(|_| late())?;
        if !status.success() {
            let said = errors.recv_timeout(left).unwrap_or_default();
            let said = String::from_utf8_lossy(&said);
            let last = said.lines().rfind(|line| !line.trim().is_empty()).unwrap_or("it said nothing").to_owned();
            return Err(Error::new(ErrorKind::System, format!("tesseract failed: {last}")));
        }
        Ok(words(&String::from_utf8_lossy(&out)))
    }
}

/// Reads a pipe to its end, up to more than any page has, on a thread of its own.
fn reading(pipe: Option<impl Read + Send + 'static>) -> Receiver<Vec<u8>> {
    let (sender, receiver) = channel();
    thread::spawn(move || {
        let mut bytes = Vec::new();
        let _ = pipe.map(|pipe| pipe.take(MAX_OUTPUT).read_to_end(&mut bytes));
        sender.send(bytes)
    });
    receiver
}

/// Returns the words of a table as the program writes it: a row an element, the words those of level 5.
fn words(table: &str) -> Vec<SeenWord> {
    let mut lines: Vec<String> = Vec::new();
    let mut words = Vec::new();
    for row in table.lines().skip(1) {
        let fields: Vec<&str> = row.splitn(12, '\t').collect();
        let [level, page, block, paragraph, line, _, left, top, width, height, confidence, text] = fields[..] else {
            continue;
        };
        let number = |field: &str| field.parse::<f32>().unwrap_or(0.0);
        if level != "5" || text.trim().is_empty() {
            continue;
        }
        let key = [page, block, paragraph, line].join("\t");
        if lines.last() != Some(&key) {
            lines.push(key);
        }
        words.push(SeenWord {
            text: text.trim().to_owned(),
            area: Area {
                left: number(left),
                top: number(top),
                right: number(left) + number(width),
                bottom: number(top) + number(height),
            },
            line: lines.len() as u32,
            confidence: (number(confidence) / 100.0).clamp(0.0, 1.0),
        });
    }
    words
}

#[cfg(test)]
mod tests {
    #[test]
    fn words_keep_their_lines_and_confidence() {
        let table = "level\tpage\tblock\tpar\tline\tword\tleft\ttop\twidth\theight\tconf\ttext\n\
                     4\t1\t1\t1\t1\t0\t10\t10\t200\t20\t-1\t\n\
                     5\t1\t1\t1\t1\t1\t10\t10\t80\t20\t96.5\tCrane\n\
                     5\t1\t1\t1\t1\t2\t100\t10\t20\t20\t40\t2\n\
                     5\t1\t1\t1\t2\t1\t10\t40\t60\t20\t90\tlifts\n";
        let words = super::words(table);
        let seen: Vec<(&str, u32)> = words.iter().map(|word| (word.text.as_str(), word.line)).collect();
        assert_eq!(seen, [("Crane", 1), ("2", 1), ("lifts", 2)]);
        assert!((words[0].confidence - 0.965).abs() < 1e-6 && words[1].area.right == 120.0);
    }
}
