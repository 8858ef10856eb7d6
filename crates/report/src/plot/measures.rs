//! Measures with their intervals, a row each.

use logothete::eval::{Run, SHORT_MEASURES};
use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};

use super::canvas::{COLOURS, Drawn, TOP, legend, mark, names, styled, title, write};

pub fn draw<B: DrawingBackend>(area: &DrawingArea<B, Shift>, runs: &[&Run]) -> Drawn<B> {
    title(area, &format!("Measures · {}", runs[0].name))?;
    legend(area, &names(runs))?;
    let shown: Vec<&str> =
        SHORT_MEASURES.into_iter().filter(|name| runs.iter().any(|run| run.metrics.contains_key(*name))).collect();
    let rows = shown.len() as f64;
    let mut chart = ChartBuilder::on(area)
        .margin_top(TOP)
        .margin_right(30)
        .x_label_area_size(56)
        .y_label_area_size(170)
        .build_cartesian_2d(0.0..1.0, rows..0.0)?;
    styled(&mut chart.configure_mesh())
        .disable_y_mesh()
        .y_labels(0)
        .x_labels(11)
        .x_label_formatter(&|x| format!("{x:.1}"))
        .x_desc("mean over the questions, from 0 to 1, with its 95 % interval")
        .draw()?;
    for (row, name) in shown.iter().enumerate() {
        let (_, y) = chart.backend_coord(&(0.0, row as f64 + 0.5));
        write(area, name, (158, y), HPos::Right, VPos::Center)?;
        for (at, run) in runs.iter().enumerate() {
            let Some(value) = run.metrics.get(*name) else { continue };
            let y = row as f64 + (at as f64 + 1.0) / (runs.len() as f64 + 1.0);
            let (x, y_pixel) = chart.backend_coord(&(*value, y));
            if let Some(interval) = run.intervals.get(*name) {
                let (low, high) =
                    (chart.backend_coord(&(interval.low, y)).0, chart.backend_coord(&(interval.high, y)).0);
                let colour = COLOURS[at % COLOURS.len()].stroke_width(3);
                area.draw(&PathElement::new(vec![(low, y_pixel), (high, y_pixel)], colour))?;
            }
            mark(area, at, (x, y_pixel))?;
        }
    }
    Ok(())
}
