//! The course of a build, and builds over time: as trace events, and as pictures that need nothing beside them.

use boltboard_core::work::{Course, Disk, LedgerEntry, LedgerOutcome};
use plotters::prelude::*;
use serde_json::json;

use crate::fault::Stop;

/// Width and height of pictures, in pixels.
const SIZE: (u32, u32) = (1200, 480);

/// A picture could not be drawn.
fn fault(error: impl std::fmt::Display) -> Stop {
    Stop::usage(format!("cannot draw it: {error}"))
}

/// Writes the trace-event form that profilers and browsers read.
pub fn trace_events(course: &Course) -> String {
    let events: Vec<serde_json::Value> = course
        .spans
        .iter()
        .map(|span| {
            json!({
                "name": format!("{} {}", span.verb, span.subject), "cat": span.verb, "ph": "X", "ts": span.began_us,
                "dur": span.wall_us, "pid": 1, "tid": span.job + 1, "args": { "part": span.part },
            })
        })
        .collect();
    json!({ "traceEvents": events, "displayTimeUnit": "ms" }).to_string() + "\n"
}

fn colour(verb: &str) -> RGBColor {
    match verb {
        "compile" => RGBColor(70, 120, 170),
        "link" => RGBColor(200, 120, 40),
        "archive" => RGBColor(150, 140, 60),
        "generate" => RGBColor(90, 150, 90),
        _ => RGBColor(130, 130, 130),
    }
}

/// Draws which step ran when on which job.
pub fn course_picture(course: &Course) -> Result<String, Stop> {
    let seconds = |us: u64| us as f64 / 1_000_000.0;
    let end = course.spans.iter().map(|span| seconds(span.began_us + span.wall_us)).fold(0.001, f64::max);
    let jobs = course.spans.iter().map(|span| span.job + 1).max().unwrap_or(1);
    let mut text = String::new();
    {
        let root = SVGBackend::with_string(&mut text, SIZE).into_drawing_area();
        root.fill(&WHITE).map_err(fault)?;
        let mut chart = ChartBuilder::on(&root)
            .margin(12)
            .caption(format!("{} steps on {jobs} jobs", course.spans.len()), ("sans-serif", 18))
            .x_label_area_size(42)
            .y_label_area_size(60)
            .build_cartesian_2d(0.0..end, 0.5..(jobs as f64 * 1.25 + 0.5))
            .map_err(fault)?;
        chart
            .configure_mesh()
            .disable_y_mesh()
            .light_line_style(TRANSPARENT)
            .x_desc("seconds from the start of the build")
            .y_desc("job")
            .y_labels((jobs * 3).min(48))
            .y_label_formatter(&|job| {
                if job.fract() == 0.0 && *job <= jobs as f64 { format!("{job}") } else { String::new() }
            })
            .draw()
            .map_err(fault)?;
        for verb in ["compile", "archive", "link", "generate", "other"] {
            let of_verb = |span: &&boltboard_core::work::CourseSpan| match verb {
                "other" => !["compile", "archive", "link", "generate"].contains(&span.verb.as_str()),
                verb => span.verb == verb,
            };
            let spans: Vec<_> = course.spans.iter().filter(of_verb).collect();
            if spans.is_empty() {
                continue;
            }
            let bars = spans.iter().map(|span| {
                let (from, to) = (seconds(span.began_us), seconds(span.began_us + span.wall_us));
                let line = span.job as f64 + 1.0;
                Rectangle::new([(from, line - 0.36), (to, line + 0.36)], colour(verb).filled())
            });
            let legend = move |(x, y)| Rectangle::new([(x, y - 5), (x + 10, y + 5)], colour(verb).filled());
            chart.draw_series(bars).map_err(fault)?.label(verb).legend(legend);
            let edges = spans.iter().map(|span| {
                let (from, to) = (seconds(span.began_us), seconds(span.began_us + span.wall_us));
                let line = span.job as f64 + 1.0;
                Rectangle::new([(from, line - 0.36), (to, line + 0.36)], WHITE.stroke_width(1))
            });
            chart.draw_series(edges).map_err(fault)?;
        }
        let corner = SeriesLabelPosition::UpperRight;
        chart.configure_series_labels().position(corner).background_style(WHITE.mix(0.9)).draw().map_err(fault)?;
        root.present().map_err(fault)?;
    }
    Ok(text)
}

/// A line of a plot: what it shows, its values, its colour.
type Series = (&'static str, Vec<f64>, RGBColor);

/// Draws how long builds took and how large what they made was.
pub fn growth_picture(entries: &[LedgerEntry]) -> Result<String, Stop> {
    let done: Vec<&LedgerEntry> = entries.iter().filter(|entry| entry.outcome == LedgerOutcome::Done).collect();
    // A build that found nothing to do left the disk as it was.
    let mut last = Disk::default();
    let disks: Vec<Disk> = done
        .iter()
        .map(|entry| {
            last = if entry.disk == Disk::default() { last } else { entry.disk };
            last
        })
        .collect();
    let count = done.len().max(2) as f64;
    let mut text = String::new();
    {
        let root = SVGBackend::with_string(&mut text, (SIZE.0, SIZE.1 + 160)).into_drawing_area();
        root.fill(&WHITE).map_err(fault)?;
        let (upper, lower) = root.split_vertically(SIZE.1 / 2 + 80);
        let megabytes = |bytes: u64| bytes as f64 / (1024.0 * 1024.0);
        let panels: [(_, &str, Vec<Series>); 2] = [
            (
                upper,
                "seconds",
                vec![
                    ("wall time", done.iter().map(|e| e.wall_ms as f64 / 1000.0).collect(), RGBColor(70, 120, 170)),
                    ("processor time", done.iter().map(|e| e.cpu_ms as f64 / 1000.0).collect(), RGBColor(200, 120, 40)),
                ],
            ),
            (
                lower,
                "MiB on disk",
                vec![
                    ("finished parts", done.iter().map(|e| megabytes(e.output_bytes)).collect(), RGBColor(90, 150, 90)),
                    ("build", disks.iter().map(|disk| megabytes(disk.build)).collect(), RGBColor(70, 120, 170)),
                    ("store", disks.iter().map(|disk| megabytes(disk.store)).collect(), RGBColor(150, 140, 60)),
                ],
            ),
        ];
        for (area, what, series) in panels {
            let most = series.iter().flat_map(|(_, values, _)| values).fold(0.01, |a: f64, b| a.max(*b));
            let mut chart = ChartBuilder::on(&area)
                .margin(12)
                .x_label_area_size(36)
                .y_label_area_size(64)
                .build_cartesian_2d(1.0..count, 0.0..most * 1.4)
                .map_err(fault)?;
            chart
                .configure_mesh()
                .light_line_style(TRANSPARENT)
                .x_desc("builds, oldest first")
                .y_desc(what)
                .x_label_formatter(&|x| format!("{x:.0}"))
                .draw()
                .map_err(fault)?;
            for (label, values, colour) in series {
                let points: Vec<(f64, f64)> = (1..).map(f64::from).zip(values).collect();
                let legend = move |(x, y)| Rectangle::new([(x, y - 2), (x + 14, y + 2)], colour.filled());
                chart
                    .draw_series(LineSeries::new(points.clone(), colour.stroke_width(2)))
                    .map_err(fault)?
                    .label(label)
                    .legend(legend);
                let dots = points.into_iter().map(|at| Circle::new(at, 3, colour.filled()));
                chart.draw_series(dots).map_err(fault)?;
            }
            let corner = SeriesLabelPosition::UpperRight;
            chart.configure_series_labels().position(corner).background_style(WHITE.mix(0.9)).draw().map_err(fault)?;
        }
        root.present().map_err(fault)?;
    }
    Ok(text)
}
