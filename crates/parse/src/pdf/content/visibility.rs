//! Marked content that is open, and whether it is shown: optional content (ISO 32000-2, 8.11 and 14.6).

use std::collections::HashSet;

use hayro_syntax::Pdf;
use hayro_syntax::object::{Array, Dict, MaybeRef, Name, Object, ObjectIdentifier};

use crate::pdf::tags::Role;

/// More marks than this are not kept open.
const MAX_OPEN: usize = 4_096;

/// The optional content groups that a document hides when it is opened.
#[derive(Debug, Default)]
pub(in crate::pdf) struct HiddenGroups(HashSet<ObjectIdentifier>);

/// A group of optional content, or a rule that makes one of several.
#[derive(Debug)]
pub(super) struct Group<'d> {
    pub reference: Option<ObjectIdentifier>,
    pub dict: Option<Dict<'d>>,
}

impl<'d> Group<'d> {
    /// Returns the group of a form, a picture or a property list.
    pub(super) fn of(dict: &Dict<'d>) -> Option<Self> {
        let (reference, group) = (dict.get_ref("OC").map(Into::into), dict.get::<Dict<'d>>("OC"));
        (reference.is_some() || group.is_some()).then_some(Self { reference, dict: group })
    }
}

/// Returns the references in an array.
fn references(dict: &Dict<'_>, key: &str) -> Vec<ObjectIdentifier> {
    let entries = dict.get::<Array<'_>>(key);
    let reference = |entry: MaybeRef<Object<'_>>| entry.as_obj_ref().map(Into::into);
    entries.iter().flat_map(Array::raw_iter).filter_map(reference).collect()
}

impl HiddenGroups {
    /// Returns the groups that the default configuration of a document hides.
    pub(in crate::pdf) fn of(pdf: &Pdf) -> Self {
        let root: Option<Dict<'_>> = pdf.xref().get(pdf.xref().root_id());
        let properties = root.and_then(|root| root.get::<Dict<'_>>("OCProperties"));
        let Some((all, chosen)) = properties.and_then(|all| Some((all.clone(), all.get::<Dict<'_>>("D")?))) else {
            return Self::default();
        };
        let mut hidden = HashSet::new();
        if chosen.get::<Name<'_>>("BaseState").as_deref() == Some(b"OFF") {
            hidden.extend(references(&all, "OCGs"));
        }
        for shown in references(&chosen, "ON") {
            hidden.remove(&shown);
        }
        hidden.extend(references(&chosen, "OFF"));
        Self(hidden)
    }

    /// Returns `true` if a group is hidden.
    fn hides(&self, group: &Group<'_>) -> bool {
        let is_rule = |dict: &&Dict<'_>| dict.get::<Name<'_>>("Type").as_deref() == Some(b"OCMD");
        match group.dict.as_ref().filter(is_rule) {
            Some(rule) => self.rule_hides(rule),
            None => group.reference.is_some_and(|reference| self.0.contains(&reference)),
        }
    }

    /// Applies the policy of a membership dictionary to its groups.
    fn rule_hides(&self, rule: &Dict<'_>) -> bool {
        let mut groups = references(rule, "OCGs");
        if groups.is_empty() {
            groups.extend(rule.get_ref("OCGs").map(ObjectIdentifier::from));
        }
        let hidden = |group: &ObjectIdentifier| self.0.contains(group);
        let shows = match rule.get::<Name<'_>>("P").as_deref() {
            _ if groups.is_empty() => true,
            Some(b"AllOn") => !groups.iter().any(hidden),
            Some(b"AnyOff") => groups.iter().any(hidden),
            Some(b"AllOff") => groups.iter().all(hidden),
            _ => !groups.iter().all(hidden),
        };
        !shows
    }
}

/// The marked content that is open.
#[derive(Debug)]
pub(super) struct Visibility<'g> {
    hidden: &'g HiddenGroups,
    /// For each mark, whether it is shown, and the role of what is around it.
    open: Vec<(bool, Role)>,
    /// Marks that were not kept since there were too many.
    dropped: usize,
}

impl<'g> Visibility<'g> {
    pub(super) fn new(hidden: &'g HiddenGroups) -> Self {
        Self { hidden, open: Vec::new(), dropped: 0 }
    }

    /// Returns the number of open marks.
    pub(super) fn len(&self) -> usize {
        self.open.len() + self.dropped
    }

    /// Returns `true` if what comes now is shown.
    pub(super) fn is_visible(&self) -> bool {
        self.open.last().is_none_or(|(is_visible, _)| *is_visible)
    }

    /// Returns `true` if what belongs to a group is shown here.
    pub(super) fn shows(&self, group: Option<&Group<'_>>) -> bool {
        self.is_visible() && !group.is_some_and(|group| self.hidden.hides(group))
    }

    /// Opens marked content. `role` is the role of what is around it.
    pub(super) fn begin(&mut self, group: Option<&Group<'_>>, role: Role) {
        if self.open.len() < MAX_OPEN {
            self.open.push((self.shows(group), role));
        } else {
            self.dropped += 1;
        }
    }

    /// Closes marked content and returns the role of what is around it; `None` if none is open.
    pub(super) fn end(&mut self) -> Option<Role> {
        if self.dropped > 0 {
            self.dropped -= 1;
            return self.open.last().map(|(_, role)| *role);
        }
        self.open.pop().map(|(_, role)| role)
    }
}
