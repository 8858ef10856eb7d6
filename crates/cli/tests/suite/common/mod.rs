//! Running the command on the demo's documents.
#![allow(dead_code)] // each test file uses its own part

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tempfile::TempDir;

/// What a run of the command left behind.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

pub fn demo(name: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name).canonicalize().expect("the demo")
}

/// A folder of its own, with room for a corpus.
pub fn folder() -> TempDir {
    tempfile::tempdir().expect("a temporary folder")
}

/// The command, ready to run in a folder.
pub fn command(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("logothete"));
    // Without a PATH no program that recognises scans is found: the outcome is the same on every machine.
    command.current_dir(folder).args(arguments).env_remove("NO_COLOR").env("PATH", "");
    command
}

/// Runs the command in a folder; `DEMO` in an argument stands for the demo's documents.
pub fn run(folder: &Path, arguments: &[&str]) -> Ran {
    let documents = demo("documents").display().to_string();
    let arguments: Vec<String> = arguments.iter().map(|argument| argument.replace("DEMO", &documents)).collect();
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let Output { status, stdout, stderr } = command(folder, &arguments).output().expect("the command runs");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    Ran { code: status.code().unwrap_or(-1), out: text(stdout), err: text(stderr) }
}

/// Runs the command in a folder with a text on its standard input.
pub fn run_with_input(folder: &Path, arguments: &[&str], input: &str) -> Ran {
    let mut command = command(folder, arguments);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut running = command.spawn().expect("the command runs");
    // A command that does not read has ended; what it says is told by its output.
    let _ = running.stdin.take().expect("its input").write_all(input.as_bytes());
    let Output { status, stdout, stderr } = running.wait_with_output().expect("it ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
    Ran { code: status.code().unwrap_or(-1), out: text(stdout), err: text(stderr) }
}

/// A folder with a corpus of the demo's documents.
pub fn built() -> TempDir {
    let folder = folder();
    let ran = run(folder.path(), &["build", "DEMO"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""), "{}", ran.out);
    folder
}

/// Output with what changes from run to run taken out: times, sizes on disk, folders.
pub fn settled(text: &str, folder: &Path) -> String {
    let real = folder.canonicalize().expect("the folder is there");
    let places = [(demo("documents"), "DEMO"), (real, "FOLDER"), (folder.to_path_buf(), "FOLDER")];
    let text =
        places.iter().fold(text.to_owned(), |text, (path, name)| text.replace(&path.display().to_string(), name));
    let lines = text.lines().map(|line| {
        let kept = line.split_inclusive("_ms\": ").next().filter(|kept| kept.len() < line.len());
        match kept {
            Some(kept) => format!("{kept}TIME"),
            None if line.contains("_bytes\": ") && !line.contains("text_bytes") => {
                line.split(": ").next().unwrap_or(line).to_owned() + ": SIZE"
            }
            None => match line.split_once("second\": ").or(line.split_once("seconds\": ")) {
                // Those of an estimate have a point; those of a recording have none.
                Some((key, value)) if value.contains('.') => format!("{key}seconds\": TIME"),
                _ => words_settled(line),
            },
        }
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// A line with its times, speeds and sizes replaced: a number with `ms` or `s`, or before `kB catalogue` or `tokens a second`.
/// The blanks before it go too, since numbers are set to the right.
fn words_settled(line: &str) -> String {
    let words: Vec<&str> = line.split(' ').collect();
    let mut kept: Vec<String> = Vec::new();
    let mut at = 0;
    while at < words.len() {
        let next = words.get(at + 1).copied().unwrap_or_default();
        let unit = next.trim_end_matches(['.', ',']);
        let after = words.get(at + 2).copied().unwrap_or_default();
        let number = words[at].replace(',', "").parse::<f64>().is_ok();
        let time = unit == "ms" || (unit == "s" && after.is_empty());
        let size = unit.ends_with('B') && (after.starts_with("catalogue") || after.starts_with("indexes"));
        let speed = unit == "tokens" && after == "a";
        // The column of times is as wide as the longest of them.
        let column = words[at] == "Time" && at + 1 == words.len();
        if column || (number && (time || size || speed)) {
            while kept.last().is_some_and(String::is_empty) {
                kept.pop();
            }
        }
        if number && (time || size || speed) {
            // Which of the two units it is may change too.
            kept.push(if time { format!("TIME{}", &next[unit.len()..]) } else { "N".to_owned() });
            at += usize::from(time);
        } else {
            kept.push(words[at].to_owned());
        }
        at += 1;
    }
    kept.join(" ").trim_end().to_owned()
}
