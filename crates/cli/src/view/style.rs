//! Colour and weight, if the output is a terminal.

use std::hash::{BuildHasher, RandomState};
use std::io::IsTerminal;
use std::sync::OnceLock;

/// Returns the beginning of the sequences that set styles in this process. It holds a random number, which no document can know, so
/// that the sequences of documents can be told from those of the program.
pub fn mark() -> &'static str {
    static MARK: OnceLock<String> = OnceLock::new();
    MARK.get_or_init(|| format!("\x1b{:016x}[", RandomState::new().hash_one(0)))
}

/// Wraps text in the codes of a terminal, or leaves it alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Style {
    on: bool,
}

impl Style {
    /// Styles for stdout: none in a pipe, none when `NO_COLOR` is set, none on a terminal that knows none.
    pub fn of_stdout() -> Self {
        Self::of(std::io::stdout().is_terminal())
    }

    /// Styles for stderr, under the same conditions.
    pub fn of_stderr() -> Self {
        Self::of(std::io::stderr().is_terminal())
    }

    fn of(is_terminal: bool) -> Self {
        let refused = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
        Self { on: is_terminal && !refused && !dumb }
    }

    /// No styles: for files.
    pub fn plain() -> Self {
        Self { on: false }
    }

    /// Returns `true` if there are any.
    pub fn is_on(self) -> bool {
        self.on
    }

    fn code(self, code: &str, text: &str) -> String {
        if !self.on || text.is_empty() {
            return text.to_owned();
        }
        let mark = mark();
        format!("{mark}{code}m{text}{mark}0m")
    }

    /// For what leads: titles, answers.
    pub fn strong(self, text: &str) -> String {
        self.code("1", text)
    }

    /// For less important text: numbers, hints.
    pub fn faint(self, text: &str) -> String {
        self.code("2", text)
    }

    /// For places: documents, pages, sections.
    pub fn place(self, text: &str) -> String {
        self.code("36", text)
    }

    /// For the words that match.
    pub fn matched(self, text: &str) -> String {
        self.code("1;4", text)
    }

    /// For words that mean something like one that was searched for.
    pub fn alike(self, text: &str) -> String {
        self.code("3;4", text)
    }

    /// For text in two chunks.
    pub fn tinted(self, text: &str) -> String {
        self.code("30;46", text)
    }

    /// For what went wrong.
    pub fn warning(self, text: &str) -> String {
        self.code("33", text)
    }
}
