//! Drafting questions from the documents of a corpus.

use std::collections::{HashMap, HashSet};

use logothete_core::document::{Document, Span};
use logothete_core::eval::{Draft, Drafter, SetQuestion};
use logothete_core::prompt::{draft_prompt, written_question};
use logothete_core::{Error, ErrorKind, Result, TokenUsage};
use serde_json::Value;

use super::Corpus;
use crate::config::GeneratorRole;
use crate::generate::{GenerationRequest, Job, Runner};
use crate::opened::Opened;
use crate::pipeline::Equipped;
use crate::spending::Spending;
use crate::storage::{View, Which};
use crate::threads::{Driver, StopToken};

/// The highest number of documents that questions are drafted from.
const MAX_DOCUMENTS: usize = 2_000;
/// The tokens of a reply with a question and its answer.
const REPLY_TOKENS: u64 = 120;

impl Corpus {
    /// Drafts questions from headings, table cells, definitions, figures and dates, spread over the documents, and `near_misses` that
    /// the documents do not answer though they seem to. If `[generator]` has a model, it writes a question for each source, which is
    /// taken if the source has its answer word for word.
    ///
    /// At most 2,000 documents are read, evenly spread. Each question is marked as a draft and names its source: somebody must judge it.
    ///
    /// # Errors
    /// If the corpus is damaged, or the model fails or a limit is reached.
    pub async fn draft(&self, count: usize, near_misses: usize) -> Result<Vec<SetQuestion>> {
        let equipped = self.generator(GeneratorRole::Draft)?;
        self.check_owner("a draft of questions")?;
        let sight = self.sight();
        let work = move |opened: &Opened, driver: &Driver, stop: &StopToken| {
            let view = sight.view(opened)?;
            let mut drafts = drafted(&view, stop)?.finish(count, near_misses);
            if let Some(equipped) = &equipped {
                rewrite(opened, &view, driver, stop, &mut drafts, equipped)?;
            }
            Ok(drafts.into_iter().map(|draft| draft.question).collect())
        };
        self.drive(&StopToken::default(), work).await
    }
}

/// Collects what can be asked of the documents.
fn drafted(view: &View, stop: &StopToken) -> Result<Drafter> {
    let catalogue = view.catalogue();
    let names: Vec<String> = catalogue.document_infos()?.into_iter().map(|info| info.document).collect();
    let step = names.len().div_ceil(MAX_DOCUMENTS).max(1);
    let mut drafter = Drafter::default();
    for name in names.iter().step_by(step) {
        if stop.is_stopped() {
            return Err(Error::new(ErrorKind::Cancelled, "drafting was stopped"));
        }
        for known in catalogue.known(Which::Named(&[name]))? {
            if let Some(document) = catalogue.documents(&[known.id])?.remove(&known.id) {
                drafter.add(&document, &known.hash);
            }
        }
    }
    Ok(drafter)
}

/// Has a model write questions in place of drafts, where its reply can be used.
fn rewrite(
    opened: &Opened,
    view: &View,
    driver: &Driver,
    stop: &StopToken,
    drafts: &mut [Draft],
    Equipped { generator, config, mask }: &Equipped,
) -> Result<()> {
    let sources: Vec<(usize, String, String)> = sources(view, drafts)?;
    let templates = opened.pipeline.templates();
    let job = |at: usize| {
        let (draft, place, passage) = &sources[at];
        let mut request = GenerationRequest::new(draft_prompt(place, passage, templates)?);
        request.parameters = config.parameters();
        let request = request.max_tokens(REPLY_TOKENS * 2);
        let expected = TokenUsage { sent: generator.count_tokens(&request.prompt.text()), received: REPLY_TOKENS };
        let owner = drafts[*draft].question.relevant.first().map(|place| place.document.clone());
        Ok(Job { request, owner: owner.unwrap_or_default(), expected })
    };
    let (cache, limits, mask) = (&*opened.storage.cache, &opened.config().limits, mask.as_ref());
    let spending = Spending::new(limits);
    let runner = Runner { generator, cache, config, limits, mask, spending: &spending, stop };
    let replies = runner.run(driver, sources.len(), job)?;
    // Two drafts may have the same passage, and get the same question.
    let mut taken = HashSet::new();
    for ((draft, _, passage), reply) in sources.iter().zip(replies) {
        let written = reply?.and_then(|reply| written_question(&reply.text, passage));
        let Some(written) = written.filter(|written| taken.insert(written.question.clone())) else { continue };
        let question = &mut drafts[*draft].question;
        (question.question, question.answer) = (written.question, Some(written.answer));
        question.other.insert("source".to_owned(), Value::String(passage.clone()));
        question.other.insert("kind".to_owned(), Value::String("written".to_owned()));
        for place in &mut question.relevant {
            place.contains = None;
        }
    }
    spending.check()
}

/// Returns the number of each draft with a passage, the title and headings of that, and its text.
fn sources(view: &View, drafts: &[Draft]) -> Result<Vec<(usize, String, String)>> {
    let catalogue = view.catalogue();
    let mut documents: HashMap<String, Document> = HashMap::new();
    let mut sources = Vec::new();
    for (at, draft) in drafts.iter().enumerate() {
        let (Some(Span { start, end }), Some(place)) = (draft.passage, draft.question.relevant.first()) else {
            continue;
        };
        if !documents.contains_key(&place.document) {
            documents.clear();
            for known in catalogue.known(Which::Named(&[&place.document]))? {
                documents.extend(catalogue.documents(&[known.id])?.remove(&known.id).map(|read| (known.name, read)));
            }
        }
        if let Some(document) = documents.get(&place.document) {
            let title = document.title.as_deref().unwrap_or(&document.name);
            let named: Vec<&str> = [title].into_iter().chain(place.section.as_deref()).collect();
            sources.push((at, named.join(" › "), document.slice(Span::new(start, end)).to_owned()));
        }
    }
    Ok(sources)
}
