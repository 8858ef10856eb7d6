//! Claims of a reply that is still being written, held against their sources as each one ends.

use std::sync::Arc;

use logothete_core::search::Passage;
use logothete_core::text::sentences;
use logothete_core::verify::Judge;

use super::{Answer, AskEvent, Listener};
use crate::checking::{Check, object_to_answer};

/// A reply so far.
pub(super) struct StreamedClaims<'a> {
    question: &'a str,
    passages: Vec<Passage>,
    judge: Judge<'a>,
    checks: &'a [Arc<dyn Check>],
    text: String,
    /// So many claims were told.
    told: usize,
    /// So many sentences had ended when it was looked last.
    ended: usize,
}

impl<'a> StreamedClaims<'a> {
    pub(super) fn new(
        question: &'a str,
        passages: Vec<Passage>,
        judge: Judge<'a>,
        checks: &'a [Arc<dyn Check>],
    ) -> Self {
        Self { question, passages, judge, checks, text: String::new(), told: 0, ended: 0 }
    }

    /// Adds text, and tells of the claims that have ended with it. A claim has ended when the next sentence begins, since markers may follow its full stop.
    pub(super) fn add(&mut self, text: &str, listener: &Listener) {
        self.text.push_str(text);
        if !text.contains(['.', '!', '?', '\n', '。']) && !text.contains(char::is_whitespace) {
            return;
        }
        let spans = sentences(&self.text);
        let Some((last, ended)) = spans.split_last().filter(|(_, ended)| ended.len() > self.ended) else { return };
        self.ended = ended.len();
        let whole = self.text[..last.start].to_owned();
        self.tell(&whole, listener);
    }

    /// Tells of the claims that are left.
    pub(super) fn end(&mut self, listener: &Listener) {
        let whole = std::mem::take(&mut self.text);
        self.tell(&whole, listener);
    }

    fn tell(&mut self, reply: &str, listener: &Listener) {
        let mut answer = Answer::from_reply(self.question, reply, &self.passages);
        let fresh = answer.claims.split_off(self.told.min(answer.claims.len()));
        answer.claims = fresh;
        // What cannot be judged now is judged with the whole answer, which says why not.
        if answer.judge(&self.passages, &self.judge).is_ok() {
            object_to_answer(self.checks, &mut answer);
            answer.claims.iter().for_each(|claim| listener.tell(AskEvent::Claim(claim)));
            self.told += answer.claims.len();
        }
    }
}
