//! Recognition of scanned pages with the program `tesseract`, where it is installed.

use std::io::Write;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::OnceLock;

use logothete_core::document::{Area, PageRecogniser, Picture, SeenWord};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

/// The advice if the program is missing.
pub(super) const ADVICE: &str =
    "to have such pages read, install the program tesseract (Debian: tesseract-ocr) and build again";
/// The advice if the build cannot draw pages.
pub(super) const ADVICE_WITHOUT_PICTURES: &str =
    "to have such pages read, build this program with the feature picture, and install the program tesseract";
/// The advice if recognition is off.
pub(super) const ADVICE_OFF: &str = "to have such pages read, set ocr = \"auto\" in [parse]";

/// Runs the program `tesseract` on pictures of pages. Nothing leaves the machine.
#[derive(Clone, Debug)]
pub struct Tesseract {
    program: PathBuf,
    languages: String,
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
        program.clone().map(|program| Self { program, languages: languages.to_owned() })
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
        let mut input = child.stdin.take();
        let output = std::thread::scope(|scope| {
            // Written beside reading: the pipe holds less than a picture.
            scope.spawn(move || input.take().map(|mut input| input.write_all(&png)));
            child.wait_with_output()
        })
        .map_err(failed)?;
        if !output.status.success() {
            let said = String::from_utf8_lossy(&output.stderr);
            let last = said.lines().rfind(|line| !line.trim().is_empty()).unwrap_or("it said nothing").to_owned();
            return Err(Error::new(ErrorKind::System, format!("tesseract failed: {last}")));
        }
        Ok(words(&String::from_utf8_lossy(&output.stdout)))
    }
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
