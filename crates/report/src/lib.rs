//! Self-contained HTML pages: no script, no font, no picture from elsewhere. They follow the light or dark setting of the reader. And
//! pictures of evaluations, as SVG and PNG.

mod evaluation_page;
mod html;
mod pipeline_drawing;
mod plot;
mod reply_page;
mod source_page;
mod trace_page;
mod tree_page;

pub use evaluation_page::{Evaluation, evaluation_page};
pub use pipeline_drawing::pipeline_drawing;
pub use plot::Plot;
pub use reply_page::reply_page;
pub use source_page::SourcePage;
pub use trace_page::trace_page;
pub use tree_page::{tree_drawing, tree_page};
