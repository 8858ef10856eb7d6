//! The fields that a filter or an order may name, and what their values are.

use logothete_core::document::{Date, Value};
use logothete_core::search::{BUILT_IN_FIELDS, Filter, Is};
use logothete_core::suggest::closest;
use logothete_core::{Error, ErrorKind, Result};

use crate::storage::{CatalogueReader, FieldInfo};

/// The fields of the documents of a corpus.
pub(super) struct Fields(Vec<FieldInfo>);

impl Fields {
    pub(super) fn of(catalogue: &dyn CatalogueReader) -> Result<Self> {
        catalogue.fields().map(Self)
    }

    /// Reads the fields that a filter may name. If it names none of the metadata, that is not read.
    pub(super) fn for_filter(catalogue: &dyn CatalogueReader, filter: &Filter) -> Result<Self> {
        let built_in = filter.tests().iter().all(|(field, _)| BUILT_IN_FIELDS.contains(field));
        if built_in { Ok(Self(Vec::new())) } else { Self::of(catalogue) }
    }

    /// Returns an error if no document has a field of this name, which is probably a slip.
    pub(super) fn check_name(&self, field: &str, place: &str) -> Result<()> {
        let names = || self.0.iter().map(|field| field.name.as_str()).chain(BUILT_IN_FIELDS);
        if self.0.is_empty() || names().any(|name| name == field) {
            return Ok(());
        }
        let near = match closest(field, names().map(str::to_owned)) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("the fields are {}", names().collect::<Vec<_>>().join(", ")),
        };
        Err(Error::new(ErrorKind::InvalidRequest, format!("no document has the field “{field}”; {near}")).at(place))
    }

    /// Returns an error if a filter names an unknown field, or compares one with a value that it never has.
    pub(super) fn check_filter(&self, filter: &Filter) -> Result<()> {
        for (field, is) in filter.tests() {
            self.check_name(field, "filter")?;
            let invalid = |message: String| Err(Error::new(ErrorKind::InvalidRequest, message).at("filter"));
            if let Some((least, most)) = is.reversed() {
                return invalid(format!(
                    "the range {least}..{most} of “{field}” is empty; its beginning comes after its end"
                ));
            }
            if field == "type"
                && let Some(value) = is.values().iter().find(|value| !value.to_string().contains('/'))
            {
                return invalid(format!("“type” is a media type such as application/pdf, which “{value}” is not"));
            }
            let kinds = self.kinds(field);
            if let (Is::Equal(_) | Is::OneOf(_), ["number"]) = (is, kinds.as_slice())
                && field != "page"
            {
                for text in is.values().iter().filter_map(|value| value.as_text()) {
                    // A number that is written in another way is most likely meant.
                    if let Some(number) =
                        text.parse::<f64>().ok().filter(|number| number.is_finite() && number.to_string() != text)
                    {
                        return invalid(format!("“{field}” is a number; write {number} in place of {text}"));
                    }
                }
            }
            // An item of a list may be anything.
            let is_list = matches!(is, Is::Lists(_));
            let odd = |value: &&&Value| !is_list && !kinds.is_empty() && !kinds.iter().any(|kind| fits(kind, value));
            if let Some(value) = is.values().iter().find(odd) {
                let wanted = kinds.iter().map(|kind| called(kind)).collect::<Vec<_>>().join(" or ");
                let message = format!("“{field}” is {wanted}, which “{value}” is not");
                return invalid(message);
            }
        }
        Ok(())
    }

    /// Returns the types of a field's values; none where that is not known.
    fn kinds(&self, field: &str) -> Vec<&str> {
        match field {
            "page" => vec!["number"],
            "document" | "title" | "type" | "section" => vec!["text"],
            _ => self.0.iter().filter(|known| known.name == field).map(|known| known.kind.as_str()).collect(),
        }
    }
}

/// Returns `true` if a value of a type may be compared with what is written. Text may be with anything.
fn fits(kind: &str, written: &Value) -> bool {
    let text = written.to_string();
    match kind {
        "number" => text.parse::<f64>().is_ok_and(f64::is_finite),
        "flag" => text.parse::<bool>().is_ok(),
        "date" => Date::is_beginning(&text),
        _ => true,
    }
}

fn called(kind: &str) -> &str {
    match kind {
        "number" => "a number",
        "flag" => "true or false",
        "date" => "a date such as 2025-03",
        _ => "text",
    }
}
