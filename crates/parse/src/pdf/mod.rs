//! PDF: from drawing events to blocks.
//!
//! Each step is a module. [`page`] draws a page. Its operators run in [`content`], and [`canvas`] collects what they draw in [`drawn`].
//! [`stems`] measures the weight of type, and [`tags`] reads the roles that the file gives. [`lines`] joins glyphs into words. [`figures`] and
//! [`tables`] take their words. [`columns`] puts the other lines into reading order. [`furniture`] takes running headers and footers
//! out, and [`notes`] marks footnotes. [`headings`] finds headings and their levels. [`blocks`] joins lines into blocks and writes
//! them. [`links`] and [`outline`] read what a file says beside its pages.

mod blocks;
mod canvas;
mod captions;
mod columns;
mod content;
mod drawn;
mod figures;
mod furniture;
mod headings;
mod lines;
mod links;
mod notes;
mod outline;
mod packed;
mod page;
#[cfg(feature = "picture")]
mod picture;
#[cfg(feature = "picture")]
mod recognise;
mod sheet;
mod stems;
mod tables;
mod tags;

pub use outline::OutlineEntry;
#[cfg(feature = "picture")]
pub use picture::{area_picture, marked_page, outlined_page, page_picture, png};

use std::fmt;
use std::sync::Arc;

use hayro_syntax::page::Page;
use hayro_syntax::{DecryptionError, LoadPdfError, Pdf};
use logothete_core::document::{Area, Date, Document, DocumentBuilder, Input, PageRecogniser, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use sheet::{Object, PageLines};

/// The number of pages around the wanted ones that are read too, because furniture is recognised by its repetition.
const AROUND: u32 = 2;
/// The largest share of the page's width that a box beside the running text takes up.
const ASIDE_WIDTH: f32 = 0.55;

/// Reads PDF.
#[derive(Clone)]
pub struct PdfParser {
    password: Option<String>,
    outline: bool,
    recogniser: Option<Arc<dyn PageRecogniser>>,
    /// The advice about pages that are pictures, if there is no recogniser.
    advice: &'static str,
}

impl Default for PdfParser {
    fn default() -> Self {
        Self { password: None, outline: true, recogniser: None, advice: "character recognition is needed first" }
    }
}

impl fmt::Debug for PdfParser {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PdfParser").field("outline", &self.outline).finish_non_exhaustive()
    }
}

impl PdfParser {
    /// Creates a parser under the settings of all parsers.
    pub fn new(settings: &crate::ParseSettings) -> Self {
        let advice = settings.picture_advice.unwrap_or(Self::default().advice);
        let (password, recogniser) = (settings.password.clone(), settings.recogniser.clone());
        Self { password, recogniser, advice, ..Self::default() }
    }

    /// Opens protected files with a password.
    #[must_use]
    pub fn password(mut self, password: impl Into<String>) -> Self {
        self.password = Some(password.into());
        self
    }

    /// Reads pages that are pictures with a recogniser.
    #[must_use]
    pub fn recogniser(mut self, recogniser: Arc<dyn PageRecogniser>) -> Self {
        self.recogniser = Some(recogniser);
        self
    }

    /// Sets whether headings are looked up in the file's outline. The default is `true`.
    #[must_use]
    pub fn use_outline(mut self, outline: bool) -> Self {
        self.outline = outline;
        self
    }
}

impl Parser for PdfParser {
    fn media_types(&self) -> &[&str] {
        &["application/pdf"]
    }

    fn endings(&self) -> &[&str] {
        &["pdf"]
    }

    fn recognises(&self, start: &[u8]) -> bool {
        // The standard allows up to a kilobyte of other bytes before the header.
        start[..start.len().min(1024)].windows(5).any(|window| window == b"%PDF-")
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        self.recognises(bytes)
    }

    fn fingerprint(&self) -> Fingerprint {
        let recogniser = self.recogniser.as_ref().map(|recogniser| recogniser.fingerprint().to_string());
        Fingerprint::of(["pdf 5".to_owned(), self.outline.to_string(), recogniser.unwrap_or_default()])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        packed::count(input.bytes, input.budget)?;
        let pdf = open(input.bytes, self.password.as_deref())?;
        let mut builder = DocumentBuilder::within(input.name, "application/pdf", input.budget);
        information(&pdf, &mut builder);
        let mut pages = self.read_pages(&pdf, input, &mut builder)?;
        furniture::mark(&mut pages);
        pages.retain(|page| input.budget.wants(page.number));
        let outline = if self.outline { outline::read(&pdf) } else { Vec::new() };
        blocks::write(&mut pages, &outline, &mut builder);
        for (page, label) in (1..).zip(links::page_labels(&pdf, pdf.pages().len())) {
            builder.page_label(page, &label);
        }
        Ok(builder.finish())
    }
}

impl PdfParser {
    /// Reads the pages that the budget asks for, and warns of those without text.
    fn read_pages(&self, pdf: &Pdf, input: &Input<'_>, builder: &mut DocumentBuilder) -> Result<Vec<PageLines>> {
        let mut shared = content::Shared::new(content::HiddenGroups::of(pdf));
        let tags = tags::Tags::of(pdf);
        let (mut pages, mut unread) = (Vec::new(), Unread::default());
        let all = pdf.pages();
        let near = |number: u32| {
            let asked = input.budget.pages;
            asked.is_none_or(|asked| number + AROUND >= asked.first && number <= asked.last.saturating_add(AROUND))
        };
        let mut read = 0;
        for (number, page) in (1..).zip(all.iter()).filter(|(number, _)| near(*number)) {
            input.budget.check()?;
            let wanted = input.budget.wants(number);
            if wanted && read >= input.budget.max_pages {
                let limit = input.budget.max_pages;
                builder.warn(format!("only {limit} of its {} pages were read; that is the limit", all.len()));
                break;
            }
            read += u32::from(wanted);
            let drawn = page::draw(page, &mut shared, tags.page(page.raw().obj_id()), input.budget)?;
            pages.push(if wanted && drawn.is_blank_of_text() {
                self.without_text(number, page, drawn, &mut unread)
            } else {
                take_apart(number, page, drawn)
            });
        }
        unread.warn(self.advice, builder);
        match (read == 0, input.budget.pages) {
            (false, _) => Ok(pages),
            (true, Some(asked)) => Err(Error::new(
                ErrorKind::Configuration,
                format!("it has {}, and {asked} were asked for", count_pages(all.len())),
            )),
            (true, None) => Err(Error::new(ErrorKind::Unreadable, "this PDF has no pages")),
        }
    }

    /// Reads a page without text. A picture is recognised if there is a recogniser.
    fn without_text(&self, number: u32, page: &Page<'_>, drawn: drawn::Drawn, unread: &mut Unread) -> PageLines {
        if drawn.is_blank() {
            unread.blank.push(number);
            return take_apart(number, page, drawn);
        }
        #[cfg(feature = "picture")]
        if let Some(recogniser) = self.recogniser.as_ref().filter(|_| !unread.is_given_up) {
            let again = drawn::Drawn { width: drawn.width, height: drawn.height, ..drawn::Drawn::default() };
            match recognise::page(number, page, again, &**recogniser) {
                Ok((sheet, sure)) => {
                    unread.recognised.push((number, sure));
                    return sheet;
                }
                Err(error) => {
                    // One that hangs would hang on every page.
                    unread.is_given_up = error.kind() == ErrorKind::Limit;
                    unread.failed.push(format!("page {number} could not be recognised: {error}"));
                }
            }
        }
        unread.pictures.push(number);
        take_apart(number, page, drawn)
    }
}

/// The pages of a file that have no text of their own.
#[derive(Default)]
struct Unread {
    blank: Vec<u32>,
    pictures: Vec<u32>,
    recognised: Vec<(u32, f32)>,
    failed: Vec<String>,
    /// Whether the recogniser took too long, and is not asked again.
    #[cfg(feature = "picture")]
    is_given_up: bool,
}

impl Unread {
    fn warn(self, advice: &str, builder: &mut DocumentBuilder) {
        for failed in self.failed {
            builder.warn(failed);
        }
        let verb = |pages: usize, one: &'static str, many: &'static str| if pages == 1 { one } else { many };
        if !self.pictures.is_empty() {
            let are = verb(self.pictures.len(), "is a picture", "are pictures");
            builder.warn(format!("{} {are} without text: {advice}", numbers(&self.pictures)));
        }
        if !self.blank.is_empty() {
            let are = verb(self.blank.len(), "is", "are");
            builder.warn(format!("{} {are} blank", numbers(&self.blank)));
        }
        if !self.recognised.is_empty() {
            let pages: Vec<u32> = self.recognised.iter().map(|(page, _)| *page).collect();
            let sure = self.recognised.iter().map(|(_, sure)| sure).sum::<f32>() / pages.len() as f32;
            let were = verb(pages.len(), "was", "were");
            builder.warn(format!(
                "{} {were} recognised from pictures, with {:.0}% confidence on average",
                numbers(&pages),
                sure * 100.0
            ));
        }
    }
}

fn count_pages(count: usize) -> String {
    if count == 1 { "one page".to_owned() } else { format!("{count} pages") }
}

/// Takes apart what was drawn on a page: lines in reading order, and objects.
fn take_apart(number: u32, page: &Page<'_>, mut drawn: drawn::Drawn) -> PageLines {
    let targets = if drawn.turned == 0 { links::of_page(page) } else { Vec::new() };
    let mut words = lines::words(&drawn.layers[0]);
    let mut objects: Vec<(Area, Object)> = Vec::new();
    for figure in figures::take(&mut drawn, &mut words) {
        objects.push((figure.area, Object::Figure(figure)));
    }
    for table in tables::take(&drawn, &mut words) {
        objects.push((table.area, Object::Table(table)));
    }
    objects.extend(asides(&drawn, &mut words));
    objects.sort_by(|a, b| a.0.top.total_cmp(&b.0.top));
    words.extend(objects.iter().enumerate().map(|(index, (area, _))| lines::Word::of_object(index, *area)));
    let mut ordered = columns::in_order(words, &targets);
    mark_boxed(&mut ordered, &drawn.rules);
    let aslant = drawn.layers[1..]
        .iter()
        .flat_map(|layer| lines::rows(lines::words(layer)).into_iter().map(|row| (layer.degrees, lines::line(&row))));
    PageLines {
        number,
        width: drawn.width,
        height: drawn.height,
        turned: drawn.turned,
        lines: ordered,
        objects: objects.into_iter().map(|(_, object)| object).collect(),
        aslant: aslant.collect(),
        furniture: Vec::new(),
        rules: drawn.rules,
    }
}

/// Takes tinted boxes of prose beside the running text out of `words`.
fn asides(drawn: &drawn::Drawn, words: &mut Vec<lines::Word>) -> Vec<(Area, Object)> {
    let mut found = Vec::new();
    for fill in drawn.fills.iter().filter(|fill| fill.width() < ASIDE_WIDTH * drawn.width && fill.height() > 40.0) {
        let inside = |word: &lines::Word| fill.holds((word.left + word.right) / 2.0, word.baseline - 0.3 * word.size);
        let own: Vec<lines::Word> = words.iter().filter(|word| inside(word)).cloned().collect();
        let level = |word: &&lines::Word| word.baseline > fill.top && word.baseline < fill.bottom && !inside(word);
        let rows = lines::rows(own);
        let prose = rows.iter().filter(|row| row.len() >= 3).count();
        let code = rows.iter().filter(|row| lines::line(row).pitch > 0.0).count();
        if prose < 3 || code * 2 > rows.len() || words.iter().filter(level).count() < 5 {
            continue;
        }
        words.retain(|word| !inside(word));
        found.push((*fill, Object::Aside(rows.iter().map(|row| lines::line(row)).collect())));
    }
    found
}

/// Marks single lines between two rules of one length: the heads of entries.
fn mark_boxed(lines: &mut [lines::Line], rules: &[drawn::Rule]) {
    let level: Vec<&drawn::Rule> = rules.iter().filter(|rule| rule.level && rule.to - rule.from > 60.0).collect();
    if level.len() < 2 || level.len() > 400 {
        return;
    }
    let places: Vec<f32> = lines.iter().map(|line| line.baseline).collect();
    for (index, line) in lines.iter_mut().enumerate().filter(|(_, line)| line.object.is_none()) {
        let top = line.baseline - line.size;
        let covers = |rule: &&&drawn::Rule| rule.from <= line.area.left + 2.0 && rule.to >= line.area.right - 2.0;
        let above = level.iter().filter(covers).find(|rule| rule.at < top + 2.0 && top - rule.at < 1.6 * line.size);
        let below = level
            .iter()
            .filter(covers)
            .find(|rule| rule.at > line.baseline && rule.at - line.baseline < 2.0 * line.size);
        if let (Some(above), Some(below)) = (above, below) {
            let alike = (above.from - below.from).abs() < 3.0 && (above.to - below.to).abs() < 3.0;
            let alone = !places.iter().enumerate().any(|(other, &at)| other != index && at > above.at && at < below.at);
            line.boxed = alike && alone;
        }
    }
}

/// Returns the outline of a PDF, in order; it is empty if the file has none.
///
/// # Errors
/// If the file is protected or damaged.
pub fn outline(bytes: &[u8]) -> Result<Vec<OutlineEntry>> {
    Ok(outline::read(&open(bytes, None)?))
}

fn open(bytes: &[u8], password: Option<&str>) -> Result<Pdf> {
    let opened = match password {
        Some(password) => Pdf::new_with_password(bytes.to_vec(), password),
        None => Pdf::new(bytes.to_vec()),
    };
    opened.map_err(|error| {
        let message = match (error, password) {
            (LoadPdfError::Decryption(DecryptionError::PasswordProtected), None) => {
                "this PDF is protected by a password; give it (password_env in [parse]), or save a copy without one"
            }
            (LoadPdfError::Decryption(DecryptionError::PasswordProtected), Some(_)) => {
                "this PDF is protected by another password than the one given"
            }
            (LoadPdfError::Decryption(_), _) => {
                "this PDF is encrypted in a way that is not known here; save a copy without protection"
            }
            (LoadPdfError::Invalid, _) => {
                "this PDF is damaged or cut short, and no page of it could be found; fetch it again"
            }
        };
        Error::new(ErrorKind::Unreadable, message)
    })
}

/// Title, author and date from the document information dictionary.
fn information(pdf: &Pdf, builder: &mut DocumentBuilder) {
    let metadata = pdf.metadata();
    for (key, bytes) in [("title", &metadata.title), ("author", &metadata.author), ("subject", &metadata.subject)] {
        if let Some(text) = bytes.as_deref().map(text_string).filter(|text| !text.trim().is_empty()) {
            builder.metadata(key, Value::Text(text.trim().to_owned()));
        }
    }
    if let Some(date) = metadata.creation_date {
        let written = format!("{:04}-{:02}-{:02}", date.year, date.month, date.day);
        if let Some(date) = Date::from_written(&written) {
            builder.metadata("date", Value::Date(date));
        }
    }
}

/// Decodes a text string of the PDF standard: UTF-16 or UTF-8 with a mark, or else Latin-1, which is close enough.
fn text_string(bytes: &[u8]) -> String {
    match bytes {
        [0xFE, 0xFF, ..] | [0xFF, 0xFE, ..] | [0xEF, 0xBB, 0xBF, ..] => encoding_rs::UTF_8.decode(bytes).0.into_owned(),
        _ => bytes.iter().map(|&byte| char::from(byte)).collect(),
    }
}

/// Names pages: `page 3`, `pages 3, 5 and 7–9`.
fn numbers(pages: &[u32]) -> String {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for &page in pages {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == page => *last = page,
            _ => runs.push((page, page)),
        }
    }
    let named: Vec<String> = runs
        .iter()
        .map(|(first, last)| if first == last { first.to_string() } else { format!("{first}–{last}") })
        .collect();
    let word = if pages.len() == 1 { "page" } else { "pages" };
    match named.split_last() {
        Some((last, rest)) if !rest.is_empty() => format!("{word} {} and {last}", rest.join(", ")),
        _ => format!("{word} {}", named.concat()),
    }
}
