//! Compacting: one segment, no deleted rows, no free pages.

use logothete_core::Result;

use super::merge;
use crate::opened::Opened;
use crate::threads::Driver;

/// Merges all segments into one, rewrites the catalogue without its free pages, and removes the variants.
pub(crate) fn compact(opened: &Opened, driver: &Driver) -> Result<()> {
    let lease = opened.write_lease()?;
    merge::all(opened, driver, &lease)?;
    opened.storage.remove_variants()?;
    opened.storage.release();
    opened.storage.compact(&lease)
}
