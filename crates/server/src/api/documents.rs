//! The documents of a corpus: listed, read, shown, uploaded and removed.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::multipart::{Field, MultipartError};
use axum::extract::{Extension, FromRequest, Multipart, Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use logothete::config::Uploads as Allowed;
use logothete::document::{Area, Document, Span};
use logothete::{Corpus, Drawing};
use logothete_report::SourcePage;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::input::{At, Given, InCorpus};
use super::schema;
use crate::corpora::Served;
use crate::jobs::Job;
use crate::problem::{Outcome, Problem};
use crate::service::Service;
use crate::uploads::{Kept, Uploads};
use crate::visitors::Visitor;

/// An upload that sends nothing for so long is given up.
const MAX_SILENCE: Duration = Duration::from_secs(30);
/// So many bytes around a span are shown at most.
const MAX_AROUND: usize = 20_000;
/// So much text of a document is returned without a span.
const MAX_TEXT: usize = 5_000_000;
/// How large printed pages are drawn.
const PIXELS_A_POINT: f32 = 1.6;
/// The picture of a page has styles of its own, and no script.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'";

/// The documents of a corpus.
#[derive(Serialize)]
pub(crate) struct List {
    corpus: String,
    documents: Vec<Listed>,
    fields: Vec<logothete::corpus::FieldInfo>,
}

#[derive(Serialize)]
struct Listed {
    #[serde(flatten)]
    info: logothete::corpus::DocumentInfo,
    /// Whether it was uploaded, and not read from a folder of the machine.
    uploaded: bool,
}

/// What became of the files of an upload.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct Uploaded {
    pub files: Vec<UploadedFile>,
    /// The build that reads them; absent if nothing is new.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub job: Option<Job>,
}

/// A file of an upload.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct UploadedFile {
    pub document: String,
    pub bytes: u64,
    pub state: FileState,
    /// Why it was refused.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// What became of a file.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum FileState {
    New,
    /// Another content was there under this name.
    Changed,
    /// The same content was there already.
    Same,
    Refused,
}

/// Returns an error if a visitor may not change a corpus; `None` means making and removing corpora.
pub(super) fn may_change(service: &Service, served: Option<&Served>) -> Outcome<()> {
    let detail = match service.config().uploads {
        Allowed::Shared => return Ok(()),
        Allowed::Private if served.is_some_and(|served| served.owner.is_some()) => return Ok(()),
        Allowed::Private => "only a visitor's own corpus is changed here; uploads = \"private\" in [serve] says so",
        _ => "this service only reads its corpus; uploads = \"off\" in [serve] says so",
    };
    Err(Problem::new(StatusCode::FORBIDDEN, "read only", detail))
}

fn uploads(served: &Served) -> Outcome<&Uploads> {
    served.uploads.as_ref().ok_or_else(|| {
        let detail = "this corpus is in memory and has no place for files; serve one that is in a folder";
        Problem::new(StatusCode::CONFLICT, "refused", detail)
    })
}

/// The documents of a corpus, and the fields of their metadata.
#[utoipa::path(get, path = "/v1/documents", tag = "documents", params(InCorpus), responses(
    (status = 200, body = schema::DocumentList),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Given(at): Given<InCorpus>,
) -> Outcome<Json<List>> {
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    let info = served.corpus.info().await?;
    let names: HashSet<String> = info.documents.iter().map(|one| one.document.clone()).collect();
    let mut documents = Vec::with_capacity(info.documents.len());
    for info in info.documents {
        let uploaded = match &served.uploads {
            Some(uploads) => uploads.file_of(&info.document, async |name| names.contains(name)).await.is_some(),
            None => false,
        };
        documents.push(Listed { info, uploaded });
    }
    Ok(Json(List { corpus: served.name, documents, fields: info.fields }))
}

/// Uploads files, and builds the corpus from them.
///
/// Each part of the form that has a file name is a file; a name may have folders in it. The same content under the same name is taken once. The job says when
/// the documents can be found.
#[utoipa::path(post, path = "/v1/documents", tag = "documents", params(InCorpus),
    request_body(content = Object, content_type = "multipart/form-data"), responses(
    (status = 202, body = Uploaded),
    (status = 200, body = Uploaded, description = "nothing was new"),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 408, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn upload(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Given(at): Given<InCorpus>,
    request: Request,
) -> Outcome<Response> {
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    may_change(&service, Some(&served))?;
    let uploads = uploads(&served)?;
    let mut form = Multipart::from_request(request, &())
        .await
        .map_err(|error| Problem::invalid(format!("send files as multipart/form-data: {}", error.body_text())))?;
    let mut received = Received { service: &service, served: &served, files: Vec::new() };
    let mut there = uploads.count().await;
    let patience = Patience::new(service.config().max_time());
    let mut ended = Ok(());
    loop {
        let field = match patience.wait(form.next_field()).await {
            Ok(Some(field)) => field,
            Ok(None) => break,
            Err(problem) => {
                ended = Err(problem);
                break;
            }
        };
        let Some(name) = field.file_name().map(str::to_owned) else { continue };
        let has_room = there < service.config().documents || uploads.has(&name).await;
        let file = match has_room {
            true => receive(uploads, &name, field, service.config().max_upload_bytes(), patience).await,
            false => {
                let most = service.config().documents;
                let reason =
                    format!("the corpus has {most} uploaded files already; remove some, or raise documents in [serve]");
                Ok(refused(name, 0, reason))
            }
        };
        match file {
            Ok(file) => {
                there += usize::from(file.state == FileState::New);
                received.files.push(file);
            }
            Err(problem) => {
                ended = Err(problem);
                break;
            }
        }
    }
    let (files, job) = received.built();
    ended?;
    if files.is_empty() {
        return Err(Problem::invalid("the form has no file"));
    }
    let status = if job.is_some() { StatusCode::ACCEPTED } else { StatusCode::OK };
    Ok((status, Json(Uploaded { files, job })).into_response())
}

/// The files of an upload. What came whole is built, even if the rest was cut off or the client has left.
struct Received<'a> {
    service: &'a Service,
    served: &'a Served,
    files: Vec<UploadedFile>,
}

impl Received<'_> {
    /// Starts the build, if anything is new.
    fn built(mut self) -> (Vec<UploadedFile>, Option<Job>) {
        let files = std::mem::take(&mut self.files);
        let job = self.start(&files);
        (files, job)
    }

    fn start(&self, files: &[UploadedFile]) -> Option<Job> {
        let new = files.iter().filter(|file| matches!(file.state, FileState::New | FileState::Changed));
        let new: Vec<String> = new.map(|file| file.document.clone()).collect();
        (!new.is_empty()).then(|| self.service.jobs().start(self.served, new))
    }
}

impl Drop for Received<'_> {
    fn drop(&mut self) {
        self.start(&self.files);
    }
}

/// How long an upload may take.
#[derive(Clone, Copy)]
struct Patience {
    whole: Duration,
    until: Instant,
}

impl Patience {
    fn new(whole: Duration) -> Self {
        Self { whole, until: Instant::now() + whole }
    }

    /// Waits for the next piece of an upload, as long as a client may be silent, and no longer than the whole may take.
    async fn wait<T>(self, piece: impl Future<Output = Result<T, MultipartError>>) -> Outcome<T> {
        let left = self.until.saturating_duration_since(Instant::now());
        match tokio::time::timeout(left.min(MAX_SILENCE), piece).await {
            Ok(Ok(piece)) => Ok(piece),
            Ok(Err(error)) => Err(Problem::invalid(format!("the upload broke off: {}", error.body_text()))),
            Err(_) => {
                let detail = match left < MAX_SILENCE {
                    true => format!(
                        "the upload took more than {} s; send fewer files at once, or raise seconds in [serve]",
                        self.whole.as_secs()
                    ),
                    false => format!("the upload was silent for {} s; send it again", MAX_SILENCE.as_secs()),
                };
                Err(Problem::new(StatusCode::REQUEST_TIMEOUT, "too slow", detail))
            }
        }
    }
}

fn refused(document: String, bytes: u64, reason: String) -> UploadedFile {
    UploadedFile { document, bytes, state: FileState::Refused, reason: Some(reason) }
}

/// Receives a file. One that is refused does not end the upload.
async fn receive(
    uploads: &Uploads,
    name: &str,
    mut field: Field<'_>,
    max: u64,
    patience: Patience,
) -> Outcome<UploadedFile> {
    let mut coming = match uploads.begin(name, max).await {
        Ok(coming) => coming,
        Err(error) if error.kind() == logothete::ErrorKind::System => return Err(error.into()),
        Err(error) => {
            while patience.wait(field.chunk()).await?.is_some() {}
            return Ok(refused(name.to_owned(), 0, error.message().to_owned()));
        }
    };
    while let Some(bytes) = patience.wait(field.chunk()).await? {
        match coming.add(&bytes).await {
            Ok(()) => {}
            Err(error) if error.kind() == logothete::ErrorKind::Limit => {
                let bytes = coming.bytes();
                drop(coming);
                while patience.wait(field.chunk()).await?.is_some() {}
                return Ok(refused(name.to_owned(), bytes, error.message().to_owned()));
            }
            Err(error) => return Err(error.into()),
        }
    }
    let bytes = coming.bytes();
    let state = match coming.finish().await? {
        Kept::New => FileState::New,
        Kept::Changed => FileState::Changed,
        Kept::Same => FileState::Same,
    };
    Ok(UploadedFile { document: name.replace('\\', "/"), bytes, state, reason: None })
}

/// A document with its metadata and its chunks. A slash in its name is written `%2F`.
#[utoipa::path(get, path = "/v1/documents/{name}", tag = "documents", params(("name" = String, Path), InCorpus), responses(
    (status = 200, body = schema::DocumentDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn one(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(name): At<String>,
    Given(at): Given<InCorpus>,
) -> Outcome<Json<logothete::corpus::DocumentDetail>> {
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    Ok(Json(served.corpus.document(&name).await?))
}

/// Removes a document, and its file if it was uploaded.
#[utoipa::path(delete, path = "/v1/documents/{name}", tag = "documents", params(("name" = String, Path), InCorpus), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(name): At<String>,
    Given(at): Given<InCorpus>,
) -> Outcome<StatusCode> {
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    may_change(&service, Some(&served))?;
    // The file goes first, so that no build brings the document back.
    let had_file = match &served.uploads {
        Some(uploads) => {
            let is_taken = async |name: &str| served.corpus.metadata(name).await.is_ok();
            match uploads.file_of(&name, is_taken).await {
                Some(file) => uploads.remove(&file).await?,
                None => false,
            }
        }
        None => false,
    };
    if served.corpus.remove(&name).await? || had_file {
        return Ok(StatusCode::NO_CONTENT);
    }
    // The error names the nearest document.
    served.corpus.document(&name).await?;
    Err(Problem::not_found("the corpus has no document of this name"))
}

/// Which part of a document.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Part {
    /// Where the part begins, in bytes of the text.
    pub start: Option<usize>,
    /// Where it ends.
    pub end: Option<usize>,
    /// How many bytes before and after it are wanted.
    #[param(maximum = 20000)]
    pub around: Option<usize>,
    /// The name of the corpus; without it, the first one.
    pub corpus: Option<String>,
}

impl Part {
    fn span(&self) -> Outcome<Option<Span>> {
        match (self.start, self.end) {
            (Some(start), Some(end)) if start <= end => Ok(Some(Span::new(start, end))),
            (None, None) => Ok(None),
            _ => Err(Problem::invalid("give both start and end, the smaller first, or neither")),
        }
    }
}

/// The text of a part of a document, with what stands around it.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct PartText {
    pub document: String,
    #[schema(value_type = [u64; 2])]
    pub span: Span,
    pub before: String,
    pub text: String,
    pub after: String,
}

/// The text of a document, or of a part of it.
#[utoipa::path(get, path = "/v1/documents/{name}/text", tag = "documents", params(("name" = String, Path), Part), responses(
    (status = 200, body = PartText),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn text(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At(name): At<String>,
    Given(part): Given<Part>,
) -> Outcome<Json<PartText>> {
    let span = part.span()?;
    let served = service.served(part.corpus.as_deref(), &visitor).await?;
    let document = served.corpus.parsed(&name).await?;
    let text = &document.text;
    let span = span.unwrap_or(Span::new(0, text.len()));
    let Some(wanted) = text.get(span.range()) else {
        return Err(Problem::invalid("the text has no such part: the bounds lie outside of it, or inside a character"));
    };
    if wanted.len() > MAX_TEXT {
        return Err(Problem::invalid(format!("the text has {} bytes; ask for parts of it", wanted.len())));
    }
    let around = part.around.unwrap_or(0).min(MAX_AROUND);
    let first = text.floor_char_boundary(span.start.saturating_sub(around));
    let last = text.ceil_char_boundary((span.end + around).min(text.len()));
    Ok(Json(PartText {
        document: document.name.clone(),
        span,
        before: text[first..span.start].to_owned(),
        text: wanted.to_owned(),
        after: text[span.end..last].to_owned(),
    }))
}

/// A page of a document as a picture, with the lines of a part marked: as it is printed (PNG) if the document is a PDF file that is still there and the
/// program draws pages, and else drawn from its text (SVG).
#[utoipa::path(get, path = "/v1/documents/{name}/pages/{page}", tag = "documents",
    params(("name" = String, Path), ("page" = u32, Path), Part), responses(
    (status = 200, content((String = "image/svg+xml"), (Vec<u8> = "image/png"))),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn page(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    At((name, page)): At<(String, u32)>,
    Given(part): Given<Part>,
) -> Outcome<Response> {
    let span = part.span()?;
    let served = service.served(part.corpus.as_deref(), &visitor).await?;
    let document = served.corpus.parsed(&name).await?;
    let marked = span.map(|span| document.areas(span)).unwrap_or_default();
    let marked: Vec<_> = marked.into_iter().filter(|area| area.page == page).map(|area| area.area).collect();
    if let Some(png) = printed(&service, &served.corpus, &document, page, &marked).await {
        return Ok(([(header::CONTENT_TYPE, "image/png")], png).into_response());
    }
    let drawn = SourcePage::new(&document, page)
        .ok_or_else(|| Problem::not_found("the document has no such page, or its lines have no places on it"))?;
    let headers = [(header::CONTENT_TYPE, "image/svg+xml"), (header::CONTENT_SECURITY_POLICY, POLICY)];
    Ok((headers, drawn.picture(&marked)).into_response())
}

/// Returns a page of a PDF file as it is printed; `None` means that it cannot be drawn here.
async fn printed(
    service: &Service,
    corpus: &Corpus,
    document: &Document,
    page: u32,
    marked: &[Area],
) -> Option<Vec<u8>> {
    if !corpus.pipeline().draws() || document.media_type != "application/pdf" {
        return None;
    }
    // Drawing is as much work as a question.
    let pass = service.gate().enter(None).await.ok()?;
    let bytes = corpus.original(&document.name).await.ok()??;
    let (pipeline, drawing) = (corpus.pipeline().clone(), Drawing::Marked { page, areas: marked.to_vec() });
    let drawn = tokio::task::spawn_blocking(move || {
        let _pass = pass;
        pipeline.draw(bytes, drawing, PIXELS_A_POINT)
    });
    Some(drawn.await.ok()?.ok()?.png)
}

/// Questions to begin with.
#[derive(Serialize, Deserialize, ToSchema)]
pub(crate) struct Suggestions {
    pub questions: Vec<String>,
}

/// Questions to begin with, drawn from headings of the documents.
#[utoipa::path(get, path = "/v1/suggestions", tag = "asking", params(InCorpus), responses((status = 200, body = Suggestions)))]
pub(crate) async fn suggestions(
    State(service): State<Service>,
    Extension(visitor): Extension<Visitor>,
    Given(at): Given<InCorpus>,
) -> Outcome<Json<Suggestions>> {
    const MAX: usize = 4;
    /// So many documents are looked at.
    const LOOKED_AT: usize = 40;
    let served = service.served(at.corpus.as_deref(), &visitor).await?;
    let info = served.corpus.info().await?;
    let mut questions: Vec<String> = Vec::new();
    let mut longest: Vec<_> = info.documents.iter().filter(|document| document.chunks > 1).collect();
    longest.sort_by_key(|document| std::cmp::Reverse(document.chunks));
    for document in longest.into_iter().take(LOOKED_AT) {
        let Ok(detail) = served.corpus.document(&document.document).await else { continue };
        let headings = detail.chunks.iter().filter_map(|chunk| chunk.section.last().map(|last| (chunk.size, last)));
        let telling = headings.filter(|(_, heading)| is_subject(heading, document.title.as_deref()));
        if let Some((_, heading)) = telling.max_by_key(|(size, _)| *size) {
            let question = format!("What is said about “{}”?", subject(heading));
            if !questions.contains(&question) {
                questions.push(question);
            }
        }
        if questions.len() == MAX {
            break;
        }
    }
    Ok(Json(Suggestions { questions }))
}

/// Returns whether a heading names a subject: two to six words without figures and points, and not the title of the document.
fn is_subject(heading: &str, title: Option<&str>) -> bool {
    let subject = subject(heading);
    let is_plain = subject.chars().all(|c| c.is_alphabetic() || matches!(c, ' ' | ',' | '-' | '’' | '\''));
    let count = subject.split_whitespace().count();
    is_plain && (2..=6).contains(&count) && title != Some(heading) && subject.chars().any(char::is_lowercase)
}

/// Returns a heading without a number or a label before it.
fn subject(heading: &str) -> &str {
    let bare = heading
        .split_once(". ")
        .map_or(heading, |(label, rest)| if label.chars().any(|c| c.is_ascii_digit()) { rest } else { heading });
    bare.trim().trim_end_matches(['.', ':', '?'])
}
