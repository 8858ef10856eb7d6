//! A generator that follows a script.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use logothete::generate::{Generation, GenerationRequest, GenerationStream};
use logothete::prompt::Prompt;
use logothete::text::count_words;
use logothete::{Error, ErrorKind, Fingerprint, Generator, TokenUsage};

/// Something that goes wrong instead of a reply.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The service is too busy, and may be asked again.
    Busy,
    /// The request is refused for good.
    Refused,
    /// The reply is empty.
    Empty,
}

type Script = Arc<dyn Fn(&Prompt) -> String + Send + Sync>;

/// Writes what its script says. Clones share what they were asked.
#[derive(Clone)]
pub struct ScriptedGenerator {
    name: String,
    script: Script,
    state: Arc<Mutex<State>>,
}

impl std::fmt::Debug for ScriptedGenerator {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ScriptedGenerator").finish_non_exhaustive()
    }
}

#[derive(Default)]
struct State {
    asked: Vec<Prompt>,
    /// The faults by the number of the request, counted from 1.
    faults: Vec<(usize, Fault)>,
}

impl ScriptedGenerator {
    /// Creates a generator with a name and a script. The name represents the model: another name, another fingerprint.
    pub fn new(name: impl Into<String>, script: impl Fn(&Prompt) -> String + Send + Sync + 'static) -> Self {
        Self { name: name.into(), script: Arc::new(script), state: Arc::default() }
    }

    /// One that answers a request for a chunk's context with the place of the chunk, said in a sentence.
    pub fn contexts() -> Self {
        Self::new("contexts by script", crate::writer::context)
    }

    /// One that answers from the passages that it is sent, as [`ModelService`](crate::ModelService) does.
    pub fn answers() -> Self {
        Self::new("answers by script", |prompt| crate::reply_to(prompt, None))
    }

    /// Lets a request fail, counted from 1.
    #[must_use]
    pub fn failing_at(self, request: usize, fault: Fault) -> Self {
        self.state().faults.push((request, fault));
        self
    }

    /// Returns the requests so far.
    pub fn asked(&self) -> Vec<Prompt> {
        self.state().asked.clone()
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Returns the text inside a fence of a prompt.
pub fn part<'a>(prompt: &'a Prompt, name: &str) -> Option<&'a str> {
    let material = prompt.messages.last()?.content.as_str();
    let from = material.find(&format!("[{name} "))?;
    let mark = material[from + name.len() + 2..].split(']').next()?;
    let body = material[from..].find('\n')? + from + 1;
    let end = material.find(&format!("\n[end of {name} {mark}]"))?;
    material.get(body..end)
}

impl Generator for ScriptedGenerator {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["scripted", self.name.as_str()])
    }

    /// Counts a token for each word.
    fn count_tokens(&self, text: &str) -> u64 {
        count_words(text) as u64
    }

    fn stream<'a>(&'a self, request: &'a GenerationRequest) -> GenerationStream<'a> {
        let prompt = &request.prompt;
        let mut state = self.state();
        state.asked.push(prompt.clone());
        let number = state.asked.len();
        let fault = state.faults.iter().find(|(at, _)| *at == number).map(|(_, fault)| *fault);
        drop(state);
        let text = match fault {
            Some(Fault::Busy) => Err(Error::new(ErrorKind::Unavailable, "the model is busy; try again later")),
            Some(Fault::Refused) => Err(Error::new(ErrorKind::Configuration, "the model refused the request")),
            Some(Fault::Empty) => Ok(String::new()),
            None => Ok((self.script)(prompt)),
        };
        match text {
            Err(error) => Generation::failed(error),
            Ok(text) => {
                let usage = TokenUsage { sent: self.count_tokens(&prompt.text()), received: self.count_tokens(&text) };
                Generation::new(text, usage).into_stream()
            }
        }
    }
}
