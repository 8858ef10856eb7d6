//! Wraps text that comes in parts, on a terminal: what is there is shown at once, and no word is broken at the edge.

use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use super::visible;

/// The place in a text that is being shown.
#[derive(Debug)]
pub struct Flow {
    width: usize,
    column: usize,
    /// The word that is being written, which may move to the next line.
    word: String,
}

impl Flow {
    /// Creates a flow of lines of at most `width` columns. `None` means that the text goes to no terminal and is not wrapped.
    pub fn new(width: Option<usize>) -> Self {
        Self { width: width.unwrap_or(usize::MAX), column: 0, word: String::new() }
    }

    /// Returns what to write for the next part of the text: the part itself, line ends, and what takes back a word that does not fit.
    pub fn next(&mut self, part: &str) -> String {
        let mut out = String::with_capacity(part.len());
        for c in visible(part, false).chars() {
            match c {
                '\n' => self.end_line(&mut out),
                _ if c.is_whitespace() && self.column >= self.width => self.end_line(&mut out),
                _ if c.is_whitespace() => {
                    self.word.clear();
                    self.column += 1;
                    out.push(' ');
                }
                _ => self.show(c, &mut out),
            }
        }
        out
    }

    /// Returns what to write for a remark on lines of its own, which is wrapped already.
    pub fn aside(&mut self, remark: &str) -> String {
        let begin = if self.column > 0 { "\n" } else { "" };
        (self.column, self.word) = (0, String::new());
        format!("{begin}{remark}\n")
    }

    fn show(&mut self, c: char, out: &mut String) {
        let columns = c.width().unwrap_or(0);
        if self.column + columns > self.width {
            let word = std::mem::take(&mut self.word);
            let (back, column) = (word.width(), self.column);
            // A word that is as long as a line is broken.
            let moves = back > 0 && back < column && back + columns <= self.width;
            if moves {
                out.push_str(&format!("\x1b[{back}D\x1b[K"));
            }
            self.end_line(out);
            if moves {
                out.push_str(&word);
                (self.column, self.word) = (back, word);
            }
        }
        out.push(c);
        self.word.push(c);
        self.column += columns;
    }

    fn end_line(&mut self, out: &mut String) {
        out.push('\n');
        self.column = 0;
        self.word.clear();
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Returns the lines that a terminal shows after it was sent some text.
    fn lines(sent: &str) -> Vec<String> {
        let mut lines = vec![String::new()];
        let mut rest = sent;
        while let Some(c) = rest.chars().next() {
            rest = &rest[c.len_utf8()..];
            let line = lines.last_mut().expect("a line");
            if c == '\x1b' {
                let (back, after) = rest[1..].split_once("D\x1b[K").expect("the word before is taken back");
                let keep = line.width() - back.parse::<usize>().expect("a number");
                while line.width() > keep {
                    line.pop();
                }
                rest = after;
            } else if c == '\n' {
                lines.push(String::new());
            } else {
                line.push(c);
            }
        }
        lines
    }

    fn shown(parts: &[&str], width: usize) -> Vec<String> {
        let mut flow = Flow::new(Some(width));
        lines(&parts.iter().map(|part| flow.next(part)).collect::<String>())
    }

    #[test]
    fn a_word_that_does_not_fit_moves_to_the_next_line() {
        assert_eq!(shown(&["The bel", "l is ru", "ng in fog. [1]"], 12), ["The bell is ", "rung in fog.", "[1]"]);
        assert_eq!(shown(&["abcdefgh", "ijk l"], 4), ["abcd", "efgh", "ijk ", "l"]);
        assert_eq!(Flow::new(None).next("north \x1b[2J mole"), "north \u{fffd}[2J mole");
    }

    proptest! {
        #[test]
        fn parts_do_not_matter(text in "([a-z]{1,9}|[深é]{1,3}| |\n){0,30}", cuts in proptest::collection::vec(0_usize..60, 0..5), width in 4_usize..20) {
            let mut parts = Vec::new();
            let mut rest = text.as_str();
            for cut in cuts {
                let at = rest.char_indices().map(|(at, _)| at).nth(cut).unwrap_or(rest.len());
                parts.push(&rest[..at]);
                rest = &rest[at..];
            }
            parts.push(rest);
            let whole = shown(&[&text], width);
            prop_assert_eq!(&shown(&parts, width), &whole);
            prop_assert!(whole.iter().all(|line| line.width() <= width));
            let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>().concat();
            prop_assert_eq!(words(&whole.join(" ")), words(&text));
        }
    }
}
