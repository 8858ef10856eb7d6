//! XML as a tree of elements, by local names. Entities of the document's own are never expanded.

use logothete_core::document::{Budget, Made};
use logothete_core::{Error, ErrorKind, Result};
use quick_xml::XmlVersion;
use quick_xml::events::{BytesStart, Event};

/// Elements inside one another, at most.
const MAX_DEPTH: usize = 300;
/// Events between two looks at the clock.
const BETWEEN_CHECKS: usize = 20_000;

/// An element.
#[derive(Clone, Debug, Default)]
pub(crate) struct Element {
    /// Its name without the prefix.
    pub name: String,
    attributes: Vec<(String, String)>,
    pub children: Vec<Node>,
}

/// The content of an element.
#[derive(Clone, Debug)]
pub(crate) enum Node {
    Element(Element),
    Text(String),
}

impl Element {
    /// Returns an attribute by its local name.
    pub(crate) fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }

    /// Returns all attributes of a local name: several prefixes may share one.
    pub(crate) fn attribute_all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.attributes.iter().filter(move |(key, _)| key == name).map(|(_, value)| value.as_str())
    }

    /// Returns the elements right inside.
    pub(crate) fn elements(&self) -> impl Iterator<Item = &Self> {
        self.children.iter().filter_map(|node| match node {
            Node::Element(element) => Some(element),
            Node::Text(_) => None,
        })
    }

    /// Returns the elements of a name right inside.
    pub(crate) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.elements().filter(move |element| element.name == name)
    }

    /// Returns the first element of a name right inside.
    pub(crate) fn child(&self, name: &str) -> Option<&Self> {
        self.elements().find(|element| element.name == name)
    }

    /// Returns the first element at a path of names.
    pub(crate) fn at(&self, path: &[&str]) -> Option<&Self> {
        path.iter().try_fold(self, |element, name| element.child(name))
    }

    /// Returns the elements of a name anywhere inside, in order.
    pub(crate) fn descendants<'a>(&'a self, name: &'a str) -> Vec<&'a Self> {
        let mut found = Vec::new();
        self.collect(name, &mut found);
        found
    }

    /// Returns the elements of a name anywhere inside, but none inside another of them, in order.
    pub(crate) fn outermost<'a>(&'a self, name: &'a str) -> Vec<&'a Self> {
        let mut found = Vec::new();
        for element in self.elements() {
            if element.name == name {
                found.push(element);
            } else {
                found.extend(element.outermost(name));
            }
        }
        found
    }

    fn collect<'a>(&'a self, name: &str, found: &mut Vec<&'a Self>) {
        for element in self.elements() {
            if element.name == name {
                found.push(element);
            }
            element.collect(name, found);
        }
    }

    /// Returns all text inside.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        self.push_text(&mut text);
        text
    }

    fn push_text(&self, to: &mut String) {
        for node in &self.children {
            match node {
                Node::Text(text) => to.push_str(text),
                Node::Element(element) => element.push_text(to),
            }
        }
    }
}

pub(crate) fn damaged(error: impl std::error::Error + Send + Sync + 'static) -> Error {
    Error::new(ErrorKind::Unreadable, "its XML is damaged; save it again with its program").because(error)
}

/// Returns the text of an XML part, by its byte order mark or as UTF-8.
pub(crate) fn decode(bytes: &[u8]) -> std::borrow::Cow<'_, str> {
    encoding_rs::UTF_8.decode(bytes).0
}

/// Reads a part as a tree.
///
/// # Errors
/// If it is no XML, too deep, or the time is over.
pub(crate) fn tree(bytes: &[u8], budget: &Budget) -> Result<Element> {
    let text = decode(bytes);
    let mut open = vec![Element::default()];
    let mut nodes = 0;
    events(&text, budget, |event| {
        nodes += 1;
        if nodes % BETWEEN_CHECKS == 0 {
            // A node takes some hundred bytes, however few it has in the file.
            budget.count(Made::Places, BETWEEN_CHECKS as u64)?;
        }
        match event {
            XmlEvent::Start(start) => {
                if open.len() > MAX_DEPTH {
                    let message = format!("its XML nests more than {MAX_DEPTH} elements; it was not read");
                    return Err(Error::new(ErrorKind::Limit, message));
                }
                open.push(element(start));
            }
            XmlEvent::Empty(start) => push(&mut open, Node::Element(element(start))),
            XmlEvent::Text(text) => push(&mut open, Node::Text(text.to_owned())),
            XmlEvent::End(_) => {
                if open.len() > 1
                    && let Some(ended) = open.pop()
                {
                    push(&mut open, Node::Element(ended));
                }
            }
        }
        Ok(())
    })?;
    while open.len() > 1 {
        if let Some(ended) = open.pop() {
            push(&mut open, Node::Element(ended));
        }
    }
    let root = open.pop().unwrap_or_default();
    root.elements().next().cloned().ok_or_else(|| Error::new(ErrorKind::Unreadable, "a part of it holds no XML"))
}

fn push(open: &mut [Element], node: Node) {
    if let Some(last) = open.last_mut() {
        last.children.push(node);
    }
}

fn element(start: &BytesStart<'_>) -> Element {
    let mut unchecked = start.attributes();
    let attributes = unchecked.with_checks(false).flatten();
    Element {
        name: String::from_utf8_lossy(start.local_name().as_ref().as_ref()).into_owned(),
        attributes: attributes
            .map(|attribute| {
                let key = String::from_utf8_lossy(attribute.key.local_name().as_ref().as_ref()).into_owned();
                let value = attribute
                    .normalized_value(XmlVersion::Explicit1_0)
                    .map(std::borrow::Cow::into_owned)
                    .unwrap_or_default();
                (key, value)
            })
            .collect(),
        children: Vec::new(),
    }
}

/// Something met in XML.
pub(crate) enum XmlEvent<'e> {
    Start(&'e BytesStart<'e>),
    Empty(&'e BytesStart<'e>),
    Text(&'e str),
    End(&'e str),
}

/// Returns an attribute of an element by its local name.
pub(crate) fn attribute(start: &BytesStart<'_>, name: &str) -> Option<String> {
    let mut unchecked = start.attributes();
    let mut attributes = unchecked.with_checks(false).flatten();
    let found = attributes.find(|attribute| {
        let key: &[u8] = attribute.key.local_name().into_inner().as_ref();
        key == name.as_bytes()
    })?;
    found.normalized_value(XmlVersion::Explicit1_0).ok().map(std::borrow::Cow::into_owned)
}

/// Returns the local name of an element.
pub(crate) fn name(start: &BytesStart<'_>) -> String {
    String::from_utf8_lossy(start.local_name().as_ref().as_ref()).into_owned()
}

/// Calls back for what is met, in order.
///
/// # Errors
/// If it is no XML, the time is over, or what the callback returns.
pub(crate) fn events(text: &str, budget: &Budget, mut on: impl FnMut(XmlEvent<'_>) -> Result<()>) -> Result<()> {
    let mut reader = quick_xml::Reader::from_str(text);
    reader.config_mut().check_end_names = false;
    reader.config_mut().allow_unmatched_ends = true;
    let mut count = 0;
    loop {
        count += 1;
        if count % BETWEEN_CHECKS == 0 {
            budget.check()?;
        }
        match reader.read_event().map_err(damaged)? {
            Event::Start(start) => on(XmlEvent::Start(&start))?,
            Event::Empty(start) => on(XmlEvent::Empty(&start))?,
            Event::End(end) => on(XmlEvent::End(&String::from_utf8_lossy(end.local_name().as_ref().as_ref())))?,
            Event::Text(text) => on(XmlEvent::Text(&text.xml10_content()))?,
            Event::CData(text) => on(XmlEvent::Text(&text.xml10_content()))?,
            Event::GeneralRef(reference) => {
                let name = reference.xml10_content();
                match (reference.resolve_char_ref(), quick_xml::escape::resolve_predefined_entity(&name)) {
                    (Ok(Some(c)), _) => on(XmlEvent::Text(c.encode_utf8(&mut [0; 4])))?,
                    (_, Some(text)) => on(XmlEvent::Text(text))?,
                    _ => {}
                }
            }
            Event::Eof => return Ok(()),
            _ => {}
        }
    }
}
