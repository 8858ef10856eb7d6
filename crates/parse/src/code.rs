//! Source code as text, in parts that begin at the margin.

use logothete_core::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::{detect, plain};

/// Endings of source files with the name of their language.
const LANGUAGES: &[(&str, &str)] = &[
    ("rs", "Rust"),
    ("py", "Python"),
    ("js", "JavaScript"),
    ("mjs", "JavaScript"),
    ("ts", "TypeScript"),
    ("c", "C"),
    ("h", "C"),
    ("cc", "C++"),
    ("cpp", "C++"),
    ("hpp", "C++"),
    ("java", "Java"),
    ("kt", "Kotlin"),
    ("go", "Go"),
    ("rb", "Ruby"),
    ("php", "PHP"),
    ("cs", "C#"),
    ("swift", "Swift"),
    ("scala", "Scala"),
    ("sh", "shell"),
    ("bash", "shell"),
    ("sql", "SQL"),
    ("r", "R"),
    ("jl", "Julia"),
    ("lua", "Lua"),
    ("pl", "Perl"),
    ("hs", "Haskell"),
    ("ml", "OCaml"),
    ("ex", "Elixir"),
    ("clj", "Clojure"),
    ("toml", "TOML"),
    ("yaml", "YAML"),
    ("yml", "YAML"),
    ("css", "CSS"),
    ("scss", "CSS"),
    ("ini", "INI"),
    ("cfg", "INI"),
    ("tex", "TeX"),
];
/// The endings alone.
const ENDINGS: &[&str] = &[
    "rs", "py", "js", "mjs", "ts", "c", "h", "cc", "cpp", "hpp", "java", "kt", "go", "rb", "php", "cs", "swift",
    "scala", "sh", "bash", "sql", "r", "jl", "lua", "pl", "hs", "ml", "ex", "clj", "toml", "yaml", "yml", "css",
    "scss", "ini", "cfg", "tex",
];
/// The number of lines from which a part of code ends at the next margin.
const MIN_LINES: usize = 12;

/// Reads source code.
#[derive(Clone, Copy, Debug, Default)]
pub struct CodeParser;

impl Parser for CodeParser {
    fn media_types(&self) -> &[&str] {
        &["text/x-source"]
    }

    fn endings(&self) -> &[&str] {
        ENDINGS
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        bytes.starts_with(b"#!/")
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["code 1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let mut builder = DocumentBuilder::within(input.name, "text/x-source", input.budget);
        decoded.note(&mut builder);
        let ending = detect::ending(input.name);
        if let Some((_, language)) = LANGUAGES.iter().find(|(known, _)| *known == ending) {
            builder.metadata("programming_language", Value::Text((*language).to_owned()));
        }
        // The words in code are no language of people's.
        builder.metadata("language", Value::Text("zxx".to_owned()));
        let text = decoded.text().replace("\r\n", "\n").replace('\r', "\n");
        let mut part: Vec<&str> = Vec::new();
        let mut after_blank = false;
        for line in text.lines() {
            let at_margin = after_blank && !line.trim().is_empty() && !line.starts_with([' ', '\t', '}', ')', ']']);
            if at_margin && part.len() >= MIN_LINES {
                builder.block(BlockKind::Code, &part.join("\n"));
                part.clear();
            }
            after_blank = line.trim().is_empty();
            part.push(line);
        }
        builder.block(BlockKind::Code, &part.join("\n"));
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the file holds white space only"));
        }
        Ok(builder.finish())
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn every_ending_has_a_language() {
        assert!(super::ENDINGS.iter().all(|ending| super::LANGUAGES.iter().any(|(known, _)| known == ending)));
    }
}
