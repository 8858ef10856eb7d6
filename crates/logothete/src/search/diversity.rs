//! Diversity: what is too many of a section or a document comes after all others.

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::search::{DiversityPlan, Fused};

use crate::storage::{CatalogueReader, RowId, Snapshot};

/// Returns the items in their new order, and how many of them at the end were moved there.
pub(super) fn spread(
    plan: &DiversityPlan,
    snapshot: &Snapshot,
    catalogue: &dyn CatalogueReader,
    order: Vec<Fused<RowId>>,
) -> Result<(Vec<Fused<RowId>>, usize)> {
    if plan.max_of_section == 0 && plan.max_of_document == 0 {
        return Ok((order, 0));
    }
    let places = snapshot.places(catalogue)?;
    let mut sections: HashMap<u32, usize> = HashMap::new();
    let mut documents: HashMap<i64, usize> = HashMap::new();
    let (mut first, mut later) = (Vec::with_capacity(order.len()), Vec::new());
    for item in order {
        let Some(place) = places.of(item.key) else {
            first.push(item);
            continue;
        };
        let of_section = sections.entry(place.section).or_default();
        let of_document = documents.entry(place.document).or_default();
        let is_full = |count: usize, max: usize| max > 0 && count >= max;
        if is_full(*of_section, plan.max_of_section) || is_full(*of_document, plan.max_of_document) {
            later.push(item);
        } else {
            (*of_section, *of_document) = (*of_section + 1, *of_document + 1);
            first.push(item);
        }
    }
    let moved = later.len();
    first.append(&mut later);
    Ok((first, moved))
}
