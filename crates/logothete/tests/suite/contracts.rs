//! The contracts of stages: what the library has keeps them, and what breaks them is named.

use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

use logothete::chunk::{ByPage, Chunker, Rows, Sentences, Structure, Whole, Window};
use logothete::document::{BlockKind, Document, DocumentBuilder, Input, Parser, Span};
use logothete::generate::{Generation, GenerationEvent, GenerationRequest, GenerationStream};
use logothete::prompt::Prompt;
use logothete::search::{Leg, LegHit, LegQuestion, Passage, Reranker, Transform};
use logothete::source::{Content, Item, Items};
use logothete::vector::{Encoder, Role, Vectors};
use logothete::verify::Verdict;
use logothete::{
    BoxFuture, Check, ClaimToCheck, Fingerprint, FolderSource, Generator, Hashing, MemorySource, Objection, Parsers,
    Pipeline, Result, SentenceEncoder, Source, TokenUsage, contract,
};
use logothete_simulator::ScriptedGenerator;
use rstest::rstest;

use crate::answers::corpus;

const QUESTIONS: [&str; 2] = ["Who rings the bell in fog?", "berth 7"];

fn demo() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents")
}

/// The smaller files of the demo, one of each format.
fn files() -> Vec<(String, Vec<u8>)> {
    let mut entries: Vec<_> =
        std::fs::read_dir(demo()).expect("the demo").flatten().map(|entry| entry.path()).collect();
    entries.sort();
    let files =
        entries.into_iter().filter(|file| file.metadata().is_ok_and(|file| file.is_file() && file.len() < 200_000));
    let name = |file: &Path| file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    files.map(|file| (name(&file), std::fs::read(&file).expect("a file"))).collect()
}

fn documents() -> Vec<Document> {
    files()
        .into_iter()
        .map(|(name, bytes)| Parsers::default().parse(&name, &bytes, &Default::default()).expect("a document"))
        .collect()
}

/// All parsers of the library, as one.
struct All(Parsers);

impl Parser for All {
    fn media_types(&self) -> &[&str] {
        &["text/plain"]
    }

    fn fingerprint(&self) -> Fingerprint {
        self.0.fingerprint()
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        self.0.parse(input.name, input.bytes, input.budget)
    }
}

#[test]
fn the_parsers_keep_the_contract() {
    let files = files();
    let endings: std::collections::BTreeSet<&str> =
        files.iter().filter_map(|(name, _)| name.rsplit('.').next()).collect();
    assert!(endings.len() > 5, "the demo has files of many formats: {endings:?}");
    let files: Vec<(&str, &[u8])> = files.iter().map(|(name, bytes)| (name.as_str(), bytes.as_slice())).collect();
    contract::parser(&All(Parsers::default()), &files).expect("they keep it");
}

#[rstest]
#[case(Structure::default())]
#[case(Sentences::default())]
#[case(Window::default())]
#[case(Whole::default())]
#[case(ByPage::default())]
#[case(Rows::new(Default::default(), 5).expect("rows"))]
fn the_chunkers_keep_the_contract(#[case] chunker: impl Chunker) {
    contract::chunker(&chunker, &documents()).expect("it keeps it");
}

#[test]
fn the_encoders_keep_the_contract() {
    contract::encoder(&Hashing::new(128).expect("an encoder"), &QUESTIONS).expect("it keeps it");
    contract::encoder(&SentenceEncoder::embedded().expect("an encoder"), &QUESTIONS).expect("it keeps it");
}

#[tokio::test]
async fn the_sources_and_generators_keep_the_contract() {
    contract::source(&FolderSource::new(demo()).expect("a folder")).await.expect("it keeps it");
    contract::source(&MemorySource::new("notes").with("a.md", "# A").with("b.md", "# B")).await.expect("it keeps it");
    let generator = ScriptedGenerator::new("scripted", |_| "The bell is rung in fog. [1]".to_owned());
    contract::generator(&generator, Prompt::new("Answer.", "The bell is rung in fog.")).await.expect("it keeps it");
}

/// A stage that breaks one promise, by its number.
struct Broken(usize, AtomicUsize);

impl Broken {
    fn new(flaw: usize) -> Self {
        Self(flaw, AtomicUsize::new(0))
    }

    /// Returns another number each time.
    fn count(&self) -> usize {
        self.1.fetch_add(1, Ordering::Relaxed)
    }
}

impl Leg for Broken {
    fn name(&self) -> &str {
        if self.0 == 0 { " " } else { "broken" }
    }

    fn find(&self, question: &LegQuestion<'_>) -> Result<Vec<LegHit>> {
        let hit = |score| Ok(vec![LegHit::document("a.md", score)]);
        match self.0 {
            1 => hit(f32::NAN),
            2 => hit(self.count() as f32),
            3 => hit(question.text.chars().next().map(|c| c.len_utf8() as f32).expect("a character")),
            _ => hit(1.0),
        }
    }
}

#[rstest]
#[case(0, "it has a name")]
#[case(1, "scores are finite, for \"Who rings the bell in fog?\"")]
#[case(2, "it says the same twice, for \"Who rings the bell in fog?\"")]
#[case(3, "it does not panic, for \"\" (the leg panicked: a character)")]
fn a_leg_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let error = contract::leg(&Broken::new(flaw), &QUESTIONS).expect_err("a broken promise").to_string();
    assert!(error.starts_with("the leg breaks its contract: ") && error.contains(said), "{error}");
    contract::leg(&Broken::new(9), &QUESTIONS).expect("this one keeps it");
}

impl Reranker for Broken {
    fn name(&self) -> &'static str {
        "broken"
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of([if self.0 == 0 { self.count().to_string() } else { String::new() }])
    }

    fn rerank(&self, _: &str, passages: &[Passage]) -> Result<Vec<f32>> {
        Ok(match self.0 {
            1 => vec![1.0],
            2 => vec![f32::NAN; passages.len()],
            3 => vec![self.count() as f32; passages.len()],
            4 => vec![passages[0].score; passages.len()],
            _ => vec![1.0; passages.len()],
        })
    }
}

#[rstest]
#[case(0, "its fingerprint stays the same")]
#[case(1, "it returns a score for each passage, for 0 passages")]
#[case(2, "scores are numbers")]
#[case(3, "the same passages have the same scores")]
#[case(4, "it judges, for 0 passages (the reranker panicked")]
#[tokio::test]
async fn a_reranker_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let (corpus, _folder) = corpus().await;
    let passages = corpus.search(QUESTIONS[0]).await.expect("a search").passages;
    let error =
        contract::reranker(&Broken::new(flaw), QUESTIONS[0], &passages).expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::reranker(&Broken::new(9), QUESTIONS[0], &passages).expect("this one keeps it");
}

impl Transform for Broken {
    fn name(&self) -> &'static str {
        "broken"
    }

    fn queries(&self, question: &str) -> Result<Vec<String>> {
        Ok(match self.0 {
            0 => vec!["?!".to_owned()],
            1 => vec![format!("query {}", self.count())],
            2 => vec![question[1..].to_owned()],
            _ => vec![format!("harbour {question}")],
        })
    }
}

#[rstest]
#[case(0, "each query has a word to search for")]
#[case(1, "it says the same twice, for \"Who rings the bell in fog?\"")]
#[case(2, "it does not panic, for")]
fn a_transform_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let error = contract::transform(&Broken::new(flaw), &QUESTIONS).expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::transform(&Broken::new(9), &QUESTIONS).expect("this one keeps it");
}

impl Check for Broken {
    fn name(&self) -> &'static str {
        "broken"
    }

    fn check(&self, claim: &ClaimToCheck<'_>) -> Result<Option<Objection>> {
        Ok(match self.0 {
            0 => Some(Objection::unsupported(" ")),
            1 => {
                let mut praise = Objection::partly("fine");
                praise.verdict = Verdict::Supported;
                Some(praise)
            }
            2 => self.count().is_multiple_of(2).then(|| Objection::partly("now and then")),
            3 => claim.quotations[0].is_empty().then(|| Objection::partly("nothing is quoted")),
            _ => None,
        })
    }
}

#[rstest]
#[case(0, "an objection has a reason")]
#[case(1, "an objection is worse than supported")]
#[case(2, "it says the same twice, for \"The bell is rung in fog.\"")]
#[case(3, "it does not panic, for a claim without sources")]
fn a_check_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let claims = [("The bell is rung in fog.", "In fog the bell is rung.")];
    let error = contract::check(&Broken::new(flaw), &claims).expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::check(&Broken::new(9), &claims).expect("this one keeps it");
}

impl Encoder for Broken {
    fn name(&self) -> String {
        "broken".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["broken"])
    }

    fn dimensions(&self) -> usize {
        2
    }

    fn encode(&self, texts: &[&str], _: Role) -> Result<Vectors> {
        let mut vectors = Vectors::new(if self.0 == 0 { 3 } else { 2 });
        for (at, text) in texts.iter().enumerate() {
            match self.0 {
                0 => vectors.push(&[1.0, 0.0, 0.0])?,
                1 if at == 3 => {}
                2 => vectors.push(&[at as f32, 1.0])?,
                3 => vectors.push(&[text.len() as f32, text.as_bytes()[0].into()])?,
                _ => vectors.push(&[text.len() as f32, 1.0])?,
            }
        }
        Ok(vectors)
    }
}

#[rstest]
#[case(0, "vectors have the length that it says")]
#[case(1, "it returns a vector for each text")]
#[case(2, "a vector does not depend on the batch, for \"berth 7\"")]
#[case(3, "it encodes any text (the encoder panicked")]
fn an_encoder_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let error = contract::encoder(&Broken::new(flaw), &QUESTIONS).expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::encoder(&Broken::new(9), &QUESTIONS).expect("this one keeps it");
}

impl Chunker for Broken {
    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["broken"])
    }

    fn cut(&self, document: &Document) -> Result<Vec<Span>> {
        let length = document.text.len();
        Ok(match self.0 {
            0 => vec![Span::new(0, length + 1)],
            1 => vec![Span::new(2, length.max(2)), Span::new(0, 1)],
            2 => vec![Span::new(0, 0)],
            3 => vec![Span::new(0, length - self.count() % 2)],
            4 => Vec::new(),
            5 => vec![Span::new(0, document.blocks[0].span.end)],
            _ if length == 0 => Vec::new(),
            _ => vec![Span::new(0, length)],
        })
    }
}

#[rstest]
#[case(0, "spans lie inside the text")]
#[case(1, "spans come in order")]
#[case(2, "no span is empty")]
#[case(3, "the same document is cut in the same way")]
#[case(4, "a document with text has a chunk")]
#[case(5, "it does not panic, for a document without blocks")]
fn a_chunker_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let mut builder = DocumentBuilder::new("a.md", "text/markdown");
    builder.block(BlockKind::Paragraph, "The bell is rung in fog.");
    let document = builder.finish();
    let error = contract::chunker(&Broken::new(flaw), std::slice::from_ref(&document)).expect_err("a broken promise");
    assert!(error.to_string().contains(said), "{error}");
    contract::chunker(&Broken::new(9), &[document]).expect("this one keeps it");
}

impl Parser for Broken {
    fn media_types(&self) -> &[&str] {
        if self.0 == 0 { &[] } else { &["text/x-broken"] }
    }

    fn endings(&self) -> &[&str] {
        if self.0 == 1 { &[".BRK"] } else { &["brk"] }
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["broken"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let text = match self.0 {
            2 => String::from_utf8(input.bytes.to_vec()).expect("text"),
            _ => String::from_utf8_lossy(input.bytes).into_owned(),
        };
        if self.0 == 3 {
            return Ok(Document {
                name: input.name.to_owned(),
                media_type: "text/x-broken".to_owned(),
                text,
                ..Document::default()
            });
        }
        input.budget.check()?;
        let mut builder = DocumentBuilder::within(input.name, "text/x-broken", input.budget);
        builder.block(BlockKind::Paragraph, &text);
        if self.0 == 4 {
            builder.block(BlockKind::Paragraph, &self.count().to_string());
        }
        Ok(builder.finish())
    }
}

#[rstest]
#[case(0, "it has a media type")]
#[case(1, "endings are lower case and have no dot")]
#[case(2, "it does not panic, for a damaged file")]
#[case(3, "it stops when the budget of a file is spent")]
#[case(4, "the same bytes make the same document")]
fn a_parser_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let files: [(&str, &[u8]); 1] = [("a.brk", "The bell is rung in fög.".as_bytes())];
    let error = contract::parser(&Broken::new(flaw), &files).expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::parser(&Broken::new(9), &files).expect("this one keeps it");
}

impl Source for Broken {
    fn location(&self) -> String {
        "broken".to_owned()
    }

    fn items(&self) -> BoxFuture<'_, Result<Items>> {
        Box::pin(async {
            let path = match self.0 {
                0 => "../a.md".to_owned(),
                1 => format!("{}.md", self.count()),
                _ => "a.md".to_owned(),
            };
            let size = (self.0 == 2).then_some(1);
            Ok(Box::new(std::iter::once(Ok(Item { path, size, ..Item::default() }))) as Items)
        })
    }

    fn read<'a>(&'a self, _: &'a Item, max: u64) -> BoxFuture<'a, Result<Content>> {
        Box::pin(async move {
            let max = if self.0 == 3 { u64::MAX } else { max };
            let bytes = b"# A bell".iter().copied().take(max as usize).collect();
            Ok(Content { bytes, media_type: None })
        })
    }
}

#[rstest]
#[case(0, "paths are relative")]
#[case(1, "it lists the same items twice")]
#[case(2, "the size that it lists is the size of the content")]
#[case(3, "it reads no more than it may")]
#[tokio::test]
async fn a_source_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let error = contract::source(&Broken::new(flaw)).await.expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::source(&Broken::new(9)).await.expect("this one keeps it");
}

impl Generator for Broken {
    fn name(&self) -> String {
        "broken".to_owned()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["broken"])
    }

    fn stream<'a>(&'a self, _: &'a GenerationRequest) -> GenerationStream<'a> {
        let text = |text: &str| Ok(GenerationEvent::Text(text.to_owned()));
        match self.0 {
            0 => Box::pin(futures_util::stream::iter([text("without an end")])),
            1 => Generation::new(format!("reply {}", self.count()), TokenUsage::default()).into_stream(),
            2 => {
                let whole = Generation::new("whole", TokenUsage::default()).into_stream();
                Box::pin(futures_util::StreamExt::chain(whole, futures_util::stream::iter([text("more")])))
            }
            _ => Generation::new("whole", TokenUsage::default()).into_stream(),
        }
    }

    fn count_tokens(&self, text: &str) -> u64 {
        if self.0 == 3 { 1 } else { text.len() as u64 }
    }
}

#[rstest]
#[case(0, "its stream has one end")]
#[case(1, "a request of temperature 0 has the same reply twice")]
#[case(2, "nothing comes after the end")]
#[case(3, "an empty text has no tokens")]
#[tokio::test]
async fn a_generator_that_breaks_a_promise(#[case] flaw: usize, #[case] said: &str) {
    let prompt = || Prompt::new("Answer.", "The bell is rung in fog.");
    let error = contract::generator(&Broken::new(flaw), prompt()).await.expect_err("a broken promise").to_string();
    assert!(error.contains(said), "{error}");
    contract::generator(&Broken::new(9), prompt()).await.expect("this one keeps it");
}

#[test]
fn a_description_names_every_stage_of_ones_own() {
    let own = || {
        Pipeline::default()
            .with_leg(Broken::new(9), 2.0)
            .with_reranker(Broken::new(9))
            .with_transform(Broken::new(9))
            .with_check(Broken::new(9))
            .with_encoder(Broken::new(9))
            .with_chunker(Broken::new(9))
    };
    let (plain, own) = (Pipeline::default().describe().expect("stages"), own().describe().expect("stages"));
    let stages: Vec<&str> = own.stages.iter().filter(|stage| stage.own).map(|stage| stage.stage.as_str()).collect();
    assert_eq!(stages, ["chunk", "transform", "leg", "rerank", "check"]);
    assert_ne!(plain.fingerprint, own.fingerprint);
    assert_eq!(plain.fingerprint, Pipeline::default().describe().expect("stages").fingerprint);
}

#[test]
fn the_fingerprint_of_a_pipeline_follows_what_decides_answers() {
    let of = |pipeline: &Pipeline| pipeline.describe().expect("stages").fingerprint;
    let model = |name: &str| Pipeline::default().with_generator(ScriptedGenerator::new(name, |_| String::new()));
    let one = of(&model("one"));
    assert_eq!(one, of(&model("one")));
    assert_ne!(one, of(&model("another")));
    assert_ne!(one, of(&model("one").configured(|config| config.generator.temperature = 0.5)));
    assert_ne!(one, of(&model("one").configured(|config| config.prompt.language = "French".to_owned())));
    // How long a reply may take, what it costs and where files are read decide nothing.
    assert_eq!(one, of(&model("one").configured(|config| config.generator.seconds += 1)));
    assert_eq!(one, of(&model("one").configured(|config| config.generator.price_sent = 3.0)));
    assert_eq!(one, of(&model("one").with_reader("reader", ["read"])));
}
