//! Self-contained HTML pages: no script, no font, no picture from elsewhere. They follow the light or dark setting of the reader.

mod html;
mod source_page;
mod trace_page;

pub use source_page::SourcePage;
pub use trace_page::trace_page;
