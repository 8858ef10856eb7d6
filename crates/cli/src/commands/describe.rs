//! `logothete describe`

use logothete::Result;
use logothete_report::pipeline_drawing;
use serde_json::json;

use super::output::{check_free, write_file};
use super::{configuration, pipeline};
use crate::args::{CorpusArguments, DescribeArguments};
use crate::view::Style;
use crate::{DONE, Output};

pub fn run(at: &CorpusArguments, arguments: &DescribeArguments) -> Result<Output> {
    if let Some(file) = &arguments.drawing {
        check_free(file, arguments.force)?;
    }
    let (config, _) = configuration(at)?;
    let description = pipeline(&config)?.describe()?;
    let style = Style::of_stdout();
    let mut text = format!("{}\n{}", description.to_string().trim_start(), description.drawing());
    if let Some(file) = &arguments.drawing {
        write_file(file, pipeline_drawing(&description).as_bytes(), arguments.force)?;
        text.push_str(&format!("\nThe drawing is in {}.\n", style.place(&file.display().to_string())));
    }
    Ok(Output { text, json: json!(description), code: DONE })
}
