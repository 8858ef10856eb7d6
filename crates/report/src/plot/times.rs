//! The time of each stage.

use logothete::eval::{Run, STAGES};
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::canvas::{COLOURS, Drawn, TOP, legend, mark, names, styled, title, write};

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, runs: &[&Run]) -> Drawn<B> {
    title(area, &format!("Time of each stage · {}", runs[0].name))?;
    legend(area, &names(runs))?;
    let stages: Vec<&str> =
        STAGES.into_iter().filter(|stage| runs.iter().any(|run| run.stages.contains_key(*stage))).collect();
    let longest = runs.iter().flat_map(|run| run.stages.values()).map(|time| time.p95_ms).fold(0.1, f64::max) * 1.08;
    let rows = stages.len() as f64;
    let mut chart = ChartBuilder::on(area)
        .margin_top(TOP)
        .margin_right(40)
        .x_label_area_size(56)
        .y_label_area_size(120)
        .build_cartesian_2d(0.0..longest, rows..0.0)?;
    styled(&mut chart.configure_mesh())
        .disable_y_mesh()
        .y_labels(0)
        .x_labels(8)
        .x_desc("milliseconds a question: the median, and a line to what 95 % do not exceed")
        .draw()?;
    for (row, stage) in stages.iter().enumerate() {
        let (_, y) = chart.backend_coord(&(0.0, row as f64 + 0.5));
        write(area, stage, (108, y), HPos::Right, VPos::Center)?;
        for (at, run) in runs.iter().enumerate() {
            let Some(time) = run.stages.get(*stage) else { continue };
            let y = row as f64 + (at as f64 + 1.0) / (runs.len() as f64 + 1.0);
            let (median, y_pixel) = chart.backend_coord(&(time.median_ms, y));
            let (end, _) = chart.backend_coord(&(time.p95_ms, y));
            let colour = COLOURS[at % COLOURS.len()].stroke_width(3);
            area.draw(&PathElement::new(vec![(median, y_pixel), (end, y_pixel)], colour))?;
            mark(area, at, (median, y_pixel))?;
        }
    }
    Ok(())
}
