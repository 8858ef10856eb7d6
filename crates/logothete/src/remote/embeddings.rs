//! The JSON embeddings call: the request has a model and a list of inputs, the response a list of indexed vectors.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use logothete_core::prompt::{Hidden, Mask};
use logothete_core::text::count_words;
use logothete_core::vector::{Encoder, Role, Vectors};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use serde_json::{Value, json};

use super::post::Post;
use crate::config::{EncoderConfig, PrivacyConfig};
use crate::pipeline::secret;

/// The texts that are encoded to recognise the service's vectors again.
const PROBE: &str = "The harbour office opens at seven.";

/// An encoder that is a service: it gets `{"model", "input": [text, …]}` and answers
/// `{"data": [{"index", "embedding": [number, …]}, …]}`.
///
/// Texts go there in batches by number and by tokens, some at a time; what is busy or fails is asked again, as late as it
/// wants. Its vectors are checked: as many as texts, all of one length, all of finite numbers.
#[derive(Debug)]
pub struct RemoteEncoder {
    post: Post,
    model: String,
    parameters: Vec<(String, Value)>,
    prefixes: [String; 2],
    /// What is replaced before it is sent.
    mask: Option<Mask>,
    max_tokens: Option<usize>,
    max_batch_texts: usize,
    max_batch_tokens: usize,
    max_concurrent: usize,
    dimensions: usize,
    fingerprint: Fingerprint,
}

/// The result of a request.
type Answer = Result<Vec<Vec<f32>>>;

impl RemoteEncoder {
    /// Connects to the service of a configuration.
    ///
    /// It requests the vector of a fixed text, to learn the dimensions, and to recognise the model later: a service that returns
    /// other vectors under the same name is another encoder. The call blocks the thread until the service has responded.
    ///
    /// # Errors
    /// If a setting is invalid, the host is not allowed, or the service does not respond.
    pub fn connect(config: &EncoderConfig, privacy: impl Into<PrivacyConfig>) -> Result<Self> {
        let wrong = |key: &str, message: &str| {
            Error::new(ErrorKind::Configuration, message.to_owned()).at(format!("[encoder] {key}"))
        };
        if config.model.is_empty() {
            return Err(wrong("model", "set it to the name that the service gives its model"));
        }
        if config.max_batch_texts == 0 || config.max_batch_tokens == 0 || config.max_concurrent == 0 {
            return Err(wrong("max_batch_texts, max_batch_tokens, max_concurrent", "they must be 1 or more"));
        }
        let key = match config.key_env.as_str() {
            "" => None,
            name => Some(secret(name).map_err(|error| error.at("[encoder] key_env"))?),
        };
        let parameters = config.parameters.iter().map(|(name, value)| {
            let value = serde_json::to_value(value)
                .map_err(|error| wrong("parameters", "a value cannot be written as JSON").because(error))?;
            Ok((name.clone(), value))
        });
        let parameters: Vec<(String, Value)> = parameters.collect::<Result<_>>()?;
        let whole = Duration::from_secs(config.seconds.max(1));
        let privacy = privacy.into();
        let mask = privacy.masking()?;
        let post = Post::new(&config.address, &privacy, whole, "texts to encode")
            .map_err(|error| if error.place().is_none() { error.at("[encoder] address") } else { error })?;
        let post = post.with_headers(&config.headers).with_key(key).with_retries(config.max_retries);
        let [query, passage] = [&config.query_prefix, &config.passage_prefix].map(|p| p.clone().unwrap_or_default());
        let mut new = Self {
            post,
            model: config.model.clone(),
            parameters,
            prefixes: [query, passage],
            mask,
            max_tokens: config.max_tokens,
            max_batch_texts: config.max_batch_texts,
            max_batch_tokens: config.max_batch_tokens,
            max_concurrent: config.max_concurrent,
            dimensions: 0,
            fingerprint: Fingerprint::of(["unknown"]),
        };
        let probe = new.request(&[PROBE])?;
        let vector = probe.into_iter().next().unwrap_or_default();
        new.dimensions = vector.len();
        // The last digits of a service's numbers change with the machine that answers.
        let rounded: Vec<String> = vector.iter().map(|number| format!("{number:.2}")).collect();
        let mut settings = format!("{:?} {:?} {:?}", new.parameters, new.prefixes, new.max_tokens);
        settings.extend(new.mask.as_ref().map(|mask| format!(" mask {}", mask.fingerprint())));
        new.fingerprint = Fingerprint::of(["remote", &config.address, &new.model, &settings, &rounded.join(" ")]);
        Ok(new)
    }

    /// Asks for the vectors of some texts, with their prefix.
    fn request(&self, texts: &[&str]) -> Answer {
        let mut body = json!({ "model": self.model, "input": texts });
        for (name, value) in &self.parameters {
            body[name] = value.clone();
        }
        let answer = self.post.send(&body)?;
        self.read(&answer, texts.len()).map_err(|message| {
            let message = format!("the service {message}; check model and parameters");
            Error::new(ErrorKind::Unreadable, message).at(self.model.clone())
        })
    }

    /// Returns the vectors of an answer in the order of the texts, whatever order they come in.
    fn read(&self, answer: &Value, expected: usize) -> std::result::Result<Vec<Vec<f32>>, String> {
        let data = answer["data"].as_array().ok_or("answered without a list “data”")?;
        if data.len() != expected {
            return Err(format!("gave {} vectors for {expected} texts", data.len()));
        }
        let mut vectors = vec![Vec::new(); expected];
        for (place, entry) in data.iter().enumerate() {
            let index = match entry.get("index") {
                None => Some(place),
                Some(index) => index.as_u64().and_then(|index| usize::try_from(index).ok()),
            };
            let slot = index.and_then(|index| vectors.get_mut(index)).filter(|slot| slot.is_empty());
            let slot = slot.ok_or_else(|| format!("gave two vectors for one text, or one for none (entry {place})"))?;
            let numbers = entry["embedding"].as_array().ok_or("gave an entry without “embedding”")?;
            let finite = |number: &Value| number.as_f64().map(|number| number as f32).filter(|n| n.is_finite());
            let vector: Option<Vec<f32>> = numbers.iter().map(finite).collect();
            *slot = vector.filter(|vector| !vector.is_empty()).ok_or("gave a vector that is not of finite numbers")?;
        }
        let length = if self.dimensions > 0 { self.dimensions } else { vectors[0].len() };
        match vectors.iter().find(|vector| vector.len() != length) {
            Some(vector) => Err(format!("gave a vector of {} numbers and not {length}", vector.len())),
            None => Ok(vectors),
        }
    }

    /// Splits texts into requests that keep the limits.
    fn batches<'a>(&self, texts: &'a [String]) -> Vec<&'a [String]> {
        let mut batches = Vec::new();
        let mut rest = texts;
        while !rest.is_empty() {
            let mut tokens = 0;
            let fits = rest.iter().take(self.max_batch_texts).take_while(|text| {
                tokens += self.count_tokens(text);
                tokens <= self.max_batch_tokens
            });
            let (batch, behind) = rest.split_at(fits.count().max(1));
            batches.push(batch);
            rest = behind;
        }
        batches
    }
}

impl Encoder for RemoteEncoder {
    fn name(&self) -> String {
        format!("{}, remote, {} dimensions", self.model, self.dimensions)
    }

    fn fingerprint(&self) -> Fingerprint {
        self.fingerprint.clone()
    }

    fn dimensions(&self) -> usize {
        self.dimensions
    }

    fn max_tokens(&self) -> Option<usize> {
        self.max_tokens
    }

    /// Four for three words: what services usually count.
    fn count_tokens(&self, text: &str) -> usize {
        (count_words(text) * 4).div_ceil(3)
    }

    fn is_remote(&self) -> bool {
        true
    }

    fn encode(&self, texts: &[&str], role: Role) -> Result<Vectors> {
        let prefix = if role == Role::Query { &self.prefixes[0] } else { &self.prefixes[1] };
        // Services refuse empty texts.
        let texts: Vec<String> = texts
            .iter()
            .map(|text| match &self.mask {
                _ if text.is_empty() => " ".to_owned(),
                Some(mask) => [prefix.as_str(), &mask.hide(text, &mut Hidden::default())].concat(),
                None => [prefix.as_str(), text].concat(),
            })
            .collect();
        let batches = self.batches(&texts);
        let answers: Mutex<Vec<Option<Answer>>> = Mutex::new(batches.iter().map(|_| None).collect());
        let next = AtomicUsize::new(0);
        let work = || {
            loop {
                let at = next.fetch_add(1, Ordering::Relaxed);
                let Some(batch) = batches.get(at) else { break };
                let texts: Vec<&str> = batch.iter().map(String::as_str).collect();
                let answer = self.request(&texts);
                if answer.is_err() {
                    // Later requests would fail too.
                    next.store(batches.len(), Ordering::Relaxed);
                }
                answers.lock().unwrap_or_else(PoisonError::into_inner)[at] = Some(answer);
            }
        };
        std::thread::scope(|scope| {
            for _ in 1..self.max_concurrent.min(batches.len()) {
                scope.spawn(work);
            }
            work();
        });
        let answers = answers.into_inner().unwrap_or_else(PoisonError::into_inner);
        let mut vectors = Vectors::new(self.dimensions);
        // A batch that was not sent is not the first without vectors, because an earlier or a later one failed.
        let unsent = answers.iter().any(Option::is_none);
        for answer in answers.into_iter().flatten() {
            for vector in answer? {
                vectors.push(&vector)?;
            }
        }
        if unsent {
            return Err(Error::new(ErrorKind::Cancelled, "a request was not sent"));
        }
        Ok(vectors)
    }
}
