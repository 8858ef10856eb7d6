//! Tables as data: typed columns, and answers that are computed over rows.
//!
//! [`Grid::read`] gives the columns of a table their types, [`Request::of`] reads what a question wants computed, and [`compute`] does it: the
//! greatest and the least, counts, sums, means, differences, comparisons, and the rows that meet a condition. What was computed from which rows is
//! part of the result. A column whose meaning is in doubt is named and nothing is computed.

mod compute;
mod grid;
mod request;
mod vocabulary;
mod wording;

pub use compute::{Computed, Outcome, compute};
pub use grid::{Cell, Column, ColumnKind, Grid, GridRow, joined};
pub use request::{Bound, Operation, Request};
