//! E-mail (RFC 5322, MIME): headers to metadata, the parts as text, attachments parsed in turn.

use logothete_core::document::{BlockKind, Budget, Date, Document, DocumentBuilder, Input, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};
use mail_parser::{Address, Message, MessageParser, MimeHeaders, PartType};

use crate::{ParseSettings, Parsers, html, plain};

/// No more attachments than this are looked at.
const MAX_ATTACHMENTS: usize = 200;

/// Reads e-mail.
#[derive(Debug, Clone, Default)]
pub struct EmailParser {
    settings: ParseSettings,
}

impl EmailParser {
    /// Attachments are parsed under these settings.
    pub fn new(settings: ParseSettings) -> Self {
        Self { settings }
    }
}

impl Parser for EmailParser {
    fn media_types(&self) -> &[&str] {
        &["message/rfc822"]
    }

    fn endings(&self) -> &[&str] {
        &["eml"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        // Several headers that only e-mail has, before the first blank line.
        let start = String::from_utf8_lossy(&bytes[..bytes.len().min(4096)]);
        let head = start.split("\r\n\r\n").next().and_then(|head| head.split("\n\n").next()).unwrap_or_default();
        let has = |name: &str| {
            head.lines().any(|line| line.len() > name.len() && line[..].to_ascii_lowercase().starts_with(name))
        };
        has("from:") && has("date:") && (has("message-id:") || has("mime-version:") || has("received:"))
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["e-mail 2"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let message = MessageParser::default()
            .parse(input.bytes)
            .filter(|message| message.from().is_some() || message.subject().is_some())
            .ok_or_else(|| Error::new(ErrorKind::Unreadable, "it has no headers of an e-mail"))?;
        let mut builder = DocumentBuilder::within(input.name, "message/rfc822", input.budget);
        headers(&message, &mut builder);
        self.message(&message, input.budget, &mut builder)?;
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the e-mail holds no text"));
        }
        Ok(builder.finish())
    }
}

fn headers(message: &Message<'_>, builder: &mut DocumentBuilder) {
    if let Some(subject) = message.subject() {
        builder.metadata("title", Value::Text(subject.to_owned()));
    }
    for (name, address) in [("author", message.from()), ("to", message.to()), ("cc", message.cc())] {
        let people = people(address);
        if !people.is_empty() {
            builder.metadata(name, Value::Text(people));
        }
    }
    if let Some(date) = message.date().map(mail_parser::DateTime::to_rfc3339).and_then(|date| Date::from_written(&date))
    {
        builder.metadata("date", Value::Date(date));
    }
    if let Some(id) = message.message_id() {
        builder.metadata("message_id", Value::Text(id.to_owned()));
    }
}

/// Names, or addresses where there are no names.
fn people(address: Option<&Address<'_>>) -> String {
    let list = address.into_iter().flat_map(Address::iter);
    let names: Vec<&str> = list.filter_map(|one| one.name.as_deref().or(one.address.as_deref())).collect();
    names.join(", ")
}

impl EmailParser {
    fn message(&self, message: &Message<'_>, budget: &Budget, builder: &mut DocumentBuilder) -> Result<()> {
        if let Some(subject) = message.subject() {
            builder.heading(1, subject);
        }
        for part in message.text_bodies() {
            match &part.body {
                PartType::Text(text) => body(text, builder),
                PartType::Html(text) => html::write(text, budget, builder)?,
                _ => {}
            }
        }
        for (index, part) in message.attachments().enumerate().take(MAX_ATTACHMENTS) {
            budget.check()?;
            let name = part.attachment_name().map_or_else(|| format!("attachment {}", index + 1), str::to_owned);
            match self.attachment(part, &name, budget) {
                Ok(document) => {
                    builder.heading(1, &format!("Attachment: {name}"));
                    builder.append(&document, 1);
                }
                Err(error) => builder.warn(format!("its attachment {name} was left out: {}", error.message())),
            }
        }
        Ok(())
    }

    fn attachment(&self, part: &mail_parser::MessagePart<'_>, name: &str, budget: &Budget) -> Result<Document> {
        let inside = budget.inside()?;
        if let PartType::Message(message) = &part.body {
            let mut builder = DocumentBuilder::within(name, "message/rfc822", &inside);
            self.message(message, &inside, &mut builder)?;
            return Ok(builder.finish());
        }
        let media_type = part.content_type().map(|kind| match kind.subtype() {
            Some(subtype) => format!("{}/{subtype}", kind.ctype()),
            None => kind.ctype().to_owned(),
        });
        Parsers::new(&self.settings).parse_as(media_type.as_deref(), name, part.contents(), &inside)
    }
}

/// The text of a message; what it quotes from an earlier one is set apart.
fn body(text: &str, builder: &mut DocumentBuilder) {
    let text = text.replace("\r\n", "\n");
    let mut own: Vec<&str> = Vec::new();
    let mut quoted: Vec<&str> = Vec::new();
    let write_own = |own: &mut Vec<&str>, builder: &mut DocumentBuilder| {
        plain::write(&own.join("\n"), builder);
        own.clear();
    };
    let write_quoted = |quoted: &mut Vec<&str>, builder: &mut DocumentBuilder| {
        for part in quoted.join("\n").split("\n\n") {
            builder.block(BlockKind::Quotation, part.trim());
        }
        quoted.clear();
    };
    for line in text.lines() {
        match line.strip_prefix('>') {
            Some(rest) => {
                write_own(&mut own, builder);
                quoted.push(rest.trim_start_matches(['>', ' ']).trim_end());
            }
            None => {
                write_quoted(&mut quoted, builder);
                own.push(line);
            }
        }
    }
    write_own(&mut own, builder);
    write_quoted(&mut quoted, builder);
}
