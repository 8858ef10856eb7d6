//! Tagged structure: what the file itself says that a piece of content is.
//!
//! The structure tree (ISO 32000-2, 14.7) names the marked content of each page. Only headings and artifacts are taken from it; the
//! layout shows everything else.

use std::collections::HashMap;

use hayro_syntax::Pdf;
use hayro_syntax::object::{Array, Dict, Name, Object, ObjectIdentifier};

/// Bounds on the depth and the size of a structure tree, since a tree may contain itself.
const MAX_DEPTH: usize = 64;
const LARGEST: usize = 2_000_000;

/// The role of a piece of content.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Role {
    /// The file does not say.
    #[default]
    None,
    /// A heading of a level.
    Heading(u8),
    /// A running header, a page number or other furniture.
    Artifact,
    /// Something else.
    Other,
}

/// The roles of a page's marked content.
#[derive(Debug, Default)]
pub(super) struct PageTags(HashMap<i32, Role>);

impl PageTags {
    pub(super) fn role(&self, mark: i32) -> Role {
        self.0.get(&mark).copied().unwrap_or_default()
    }
}

/// The roles of all pages, by the page's object.
#[derive(Debug, Default)]
pub(super) struct Tags {
    pages: HashMap<ObjectIdentifier, PageTags>,
    left: usize,
}

impl Tags {
    /// Reads the structure tree. The result is empty if there is none.
    pub(super) fn of(pdf: &Pdf) -> Self {
        let mut tags = Self { pages: HashMap::new(), left: LARGEST };
        let root: Option<Dict<'_>> = pdf.xref().get(pdf.xref().root_id());
        if let Some(tree) = root.and_then(|root| root.get::<Dict<'_>>("StructTreeRoot")) {
            let roles = tree.get::<Dict<'_>>("RoleMap");
            tags.children(&tree, None, Role::None, roles.as_ref(), 0);
        }
        tags
    }

    /// Returns the roles of a page.
    pub(super) fn page(&self, page: Option<ObjectIdentifier>) -> Option<&PageTags> {
        self.pages.get(&page?)
    }

    fn children(
        &mut self,
        element: &Dict<'_>,
        page: Option<ObjectIdentifier>,
        role: Role,
        roles: Option<&Dict<'_>>,
        depth: usize,
    ) {
        match element.get::<Object<'_>>("K") {
            Some(Object::Array(array)) => self.list(&array, page, role, roles, depth),
            Some(kid) => self.kid(&kid, page, role, roles, depth),
            None => {}
        }
    }

    fn list(
        &mut self,
        array: &Array<'_>,
        page: Option<ObjectIdentifier>,
        role: Role,
        roles: Option<&Dict<'_>>,
        depth: usize,
    ) {
        for kid in array.iter::<Object<'_>>() {
            self.kid(&kid, page, role, roles, depth);
        }
    }

    fn kid(
        &mut self,
        kid: &Object<'_>,
        page: Option<ObjectIdentifier>,
        role: Role,
        roles: Option<&Dict<'_>>,
        depth: usize,
    ) {
        if depth > MAX_DEPTH || self.left == 0 {
            return;
        }
        self.left -= 1;
        match kid {
            Object::Number(mark) => self.mark(page, mark.as_i64() as i32, role),
            Object::Array(array) => self.list(array, page, role, roles, depth + 1),
            Object::Dict(dict) => {
                let page = dict.get_ref("Pg").map(Into::into).or(page);
                if let Some(mark) = dict.get::<i32>("MCID") {
                    self.mark(page, mark, role);
                    return;
                }
                let named = dict.get::<Name<'_>>("S").map(|name| standard(&name, roles));
                let role = match (role, named) {
                    // Content inside a heading is part of it.
                    (Role::Heading(_), _) | (_, None) => role,
                    (_, Some(named)) => named,
                };
                self.children(dict, page, role, roles, depth + 1);
            }
            _ => {}
        }
    }

    fn mark(&mut self, page: Option<ObjectIdentifier>, mark: i32, role: Role) {
        if let Some(page) = page {
            self.pages.entry(page).or_default().0.insert(mark, role);
        }
    }
}

/// Returns the role of a structure type. A type that is not known is looked up in the file's own map of types.
fn standard(name: &Name<'_>, roles: Option<&Dict<'_>>) -> Role {
    let mut known = role_of(name);
    if known == Role::Other
        && let Some(mapped) = roles.and_then(|roles| roles.get::<Name<'_>>(&**name))
    {
        known = role_of(&mapped);
    }
    known
}

fn role_of(name: &[u8]) -> Role {
    match name {
        b"H" | b"Title" => Role::Heading(1),
        [b'H', digit @ b'1'..=b'6'] => Role::Heading(digit - b'0'),
        b"Artifact" => Role::Artifact,
        _ => Role::Other,
    }
}
