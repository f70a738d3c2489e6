//! What came of a trial.

use std::path::PathBuf;

use boltboard_core::compare::SectionSizes;
use boltboard_core::launch::Exit;
use boltboard_core::trial::{Runs, Spread, best};
use plotters::prelude::*;
use serde::Serialize;

use super::text::{Cell, Role, bytes, columns, count, duration, paint};
use crate::fault::Stop;

/// Width of the picture, and the height of a build in it, in pixels.
const WIDTH: u32 = 1200;
const ROW: u32 = 56;

/// The answer.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TrialTold {
    format: u32,
    command: Vec<String>,
    /// The builds, with their runs.
    pub variants: Vec<Variant>,
    /// The least memory that can be seen of a process, in bytes; what takes less is not told apart.
    least_seen_memory_bytes: u64,
    /// Of each quantity, the build that is best beyond the noise.
    best: Best,
}

/// Which build is best, by what; null where none stands out.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Best {
    wall_ms: Option<String>,
    cpu_ms: Option<String>,
    memory_bytes: Option<String>,
}

/// A build.
#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Variant {
    /// How it is told from the others.
    pub name: String,
    /// Its profile.
    pub profile: String,
    /// Choices on top of it.
    pub tried: Vec<String>,
    /// What all its steps took, each when it last ran.
    pub build_work_ms: Option<u64>,
    /// The bytes of all that was built.
    output_bytes: u64,
    /// Code and read-only data of what was built.
    code_bytes: u64,
    /// How long each run took.
    wall_ms: Vec<f64>,
    /// How much processor time.
    cpu_ms: Vec<f64>,
    /// How much memory, at most.
    memory_bytes: Vec<f64>,
    /// How the run ended that did not succeed, in words.
    failed: Option<String>,
    #[serde(skip)]
    /// Where what was built lies.
    pub out: PathBuf,
}

impl Variant {
    /// A build that is to be made.
    pub fn new(name: String, profile: String, tried: Vec<String>) -> Variant {
        Variant { name, profile, tried, ..Variant::default() }
    }

    fn take(&mut self, runs: &Runs) {
        (self.wall_ms, self.cpu_ms, self.memory_bytes) = (runs.walls(), runs.cpus(), runs.memories());
        self.failed = runs.runs.iter().find(|run| run.exit != Exit::Code(0)).map(|run| {
            let said = if runs.said.is_empty() { String::new() } else { format!(": {}", runs.said) };
            match run.exit {
                Exit::Code(code) => format!("ended with {code}{said}"),
                Exit::Signal(signal) => format!("was ended by signal {signal}{said}"),
                Exit::TimedOut => format!("did not end within {}", duration(run.wall.as_millis() as u64)),
                Exit::Stopped => "was stopped".to_string(),
            }
        });
        let (all, code) = sizes_below(&self.out);
        (self.output_bytes, self.code_bytes) = (all, code);
    }
}

/// The bytes of all files below a folder, and of the code in them.
fn sizes_below(folder: &std::path::Path) -> (u64, u64) {
    let (mut all, mut code) = (0, 0);
    for entry in std::fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok) {
        let Ok(kind) = entry.file_type() else { continue };
        if kind.is_dir() {
            let below = sizes_below(&entry.path());
            (all, code) = (all + below.0, code + below.1);
        } else if kind.is_file() {
            let content = std::fs::read(entry.path()).unwrap_or_default();
            all += content.len() as u64;
            let sections = SectionSizes::of(&content).unwrap_or_default();
            code += sections.code + sections.constants;
        }
    }
    (all, code)
}

impl TrialTold {
    /// Puts the answer together.
    pub fn new(format: u32, command: &[String], mut variants: Vec<Variant>, runs: &[Runs], floor: u64) -> TrialTold {
        variants.iter_mut().zip(runs).for_each(|(variant, runs)| variant.take(runs));
        let named = |of: &dyn Fn(&Variant) -> &Vec<f64>| {
            // What failed is held against nothing.
            let lists: Vec<Vec<f64>> =
                variants.iter().map(|v| if v.failed.is_none() { of(v).clone() } else { Vec::new() }).collect();
            best(&lists).map(|at| variants[at].name.clone())
        };
        let best = Best {
            wall_ms: named(&|variant| &variant.wall_ms),
            cpu_ms: named(&|variant| &variant.cpu_ms),
            memory_bytes: named(&|variant| &variant.memory_bytes).filter(|_| {
                // Below what can be seen all are the same.
                variants.iter().flat_map(|variant| &variant.memory_bytes).all(|bytes| *bytes > seen(floor))
            }),
        };
        TrialTold { format, command: command.to_vec(), variants, least_seen_memory_bytes: floor, best }
    }

    /// Tells whether the command succeeded on every build.
    pub fn all_ran(&self) -> bool {
        self.variants.iter().all(|variant| variant.failed.is_none())
    }
}

/// Up to how much memory nothing is seen of a process of its own, with some room for chance.
fn seen(floor: u64) -> f64 {
    floor as f64 * 1.05
}

fn spread(numbers: &[f64], shown: &dyn Fn(f64) -> String) -> String {
    let Some(Spread { least, median, most }) = Spread::of(numbers) else { return "-".into() };
    let (low, middle, high) = (shown(least), shown(median), shown(most));
    if low == high { middle } else { format!("{middle}  ({low} to {high})") }
}

/// Milliseconds with as many places as they are worth.
fn ms(number: f64) -> String {
    match number {
        number if number >= 10_000.0 => format!("{:.1} s", number / 1000.0),
        number if number >= 100.0 => format!("{number:.0} ms"),
        number if number >= 10.0 => format!("{number:.1} ms"),
        number => format!("{number:.2} ms"),
    }
}

/// Draws the answer.
pub fn text(told: &TrialTold, width: usize) -> String {
    let runs = told.variants.iter().map(|variant| variant.wall_ms.len()).max().unwrap_or(0);
    let mut text = format!(
        "{}\n",
        paint(Role::Title, &format!("{}, on each in turn: {}", count(runs, "run", "runs"), told.command.join(" ")))
    );
    let head = ["", "build", "size", "code", "time", "processor", "memory"];
    let mut rows: Vec<Vec<Cell>> = vec![head.map(|cell| (Role::Faint, cell.to_string())).to_vec()];
    for variant in &told.variants {
        let name = (Role::Name, variant.name.clone());
        let build = variant.build_work_ms.map_or("not known".to_string(), duration);
        let mut row = vec![
            name,
            (Role::Value, build),
            (Role::Value, bytes(variant.output_bytes)),
            (Role::Value, bytes(variant.code_bytes)),
        ];
        if let Some(failed) = &variant.failed {
            row.push((Role::Bad, failed.clone()));
        } else {
            let cell = |best: &Option<String>, said: String| {
                let is_best = best.as_ref() == Some(&variant.name);
                (if is_best { Role::Good } else { Role::Value }, if is_best { format!("{said}  best") } else { said })
            };
            let memory = |number: f64| bytes(number as u64);
            let small = variant.memory_bytes.iter().all(|bytes| *bytes <= seen(told.least_seen_memory_bytes));
            row.push(cell(&told.best.wall_ms, spread(&variant.wall_ms, &ms)));
            row.push(cell(&told.best.cpu_ms, spread(&variant.cpu_ms, &ms)));
            let most = seen(told.least_seen_memory_bytes);
            let held = if small { format!("under {}", memory(most)) } else { spread(&variant.memory_bytes, &memory) };
            row.push(cell(&told.best.memory_bytes, held));
        }
        rows.push(row);
    }
    text += &columns(&rows, 2, width);
    text += "  build: the work of all steps; time: the median, and the least to the most.\n";
    if told.variants.len() > 1 && told.all_ran() && told.best.wall_ms.is_none() {
        text += "  No time stands out: the differences are within the noise.\n";
    }
    text
}

fn fault(error: impl std::fmt::Display) -> Stop {
    Stop::usage(format!("cannot draw it: {error}"))
}

/// Draws each run as a dot, a line of dots for each build, the median as a bar.
pub fn picture(told: &TrialTold) -> Result<String, Stop> {
    let ran: Vec<&Variant> = told.variants.iter().filter(|variant| !variant.wall_ms.is_empty()).collect();
    let most = ran.iter().flat_map(|variant| variant.wall_ms.iter().copied()).fold(0.001, f64::max);
    let rows = ran.len().max(1);
    let size = (WIDTH, ROW * u32::try_from(rows).unwrap_or(1) + 130);
    let longest = ran.iter().map(|variant| variant.name.len()).max().unwrap_or(1);
    let label_width = u32::try_from(longest * 9 + 20).unwrap_or(200).min(WIDTH / 2);
    let mut text = String::new();
    {
        let root = SVGBackend::with_string(&mut text, size).into_drawing_area();
        root.fill(&WHITE).map_err(fault)?;
        let mut chart = ChartBuilder::on(&root)
            .margin(14)
            .caption(told.command.join(" "), ("sans-serif", 18))
            .x_label_area_size(44)
            .y_label_area_size(label_width)
            .build_cartesian_2d(0.0..most * 1.08, -0.5..(rows as f64 - 0.5))
            .map_err(fault)?;
        let names = |at: &f64| {
            // The first build stands on top.
            let index = rows as f64 - 1.0 - at;
            let whole = (index - index.round()).abs() < 0.01 && index > -0.1;
            if whole {
                ran.get(index.round() as usize).map_or(String::new(), |v| v.name.clone())
            } else {
                String::new()
            }
        };
        chart
            .configure_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(RGBColor(225, 228, 232))
            .x_desc("milliseconds of each run; the bar is the median")
            .y_labels(rows.max(2))
            .y_label_formatter(&names)
            .label_style(("sans-serif", 15))
            .draw()
            .map_err(fault)?;
        for (index, variant) in ran.iter().enumerate() {
            let at = (rows - 1 - index) as f64;
            let is_best = told.best.wall_ms.as_ref() == Some(&variant.name);
            let colour = if is_best { RGBColor(30, 120, 60) } else { RGBColor(70, 110, 160) };
            let dots = variant.wall_ms.iter().map(|ms| Circle::new((*ms, at), 5, colour.mix(0.55).filled()));
            chart.draw_series(dots).map_err(fault)?;
            if let Some(spread) = Spread::of(&variant.wall_ms) {
                let bar = [(spread.median, at - 0.3), (spread.median, at + 0.3)];
                chart.draw_series([PathElement::new(bar, colour.stroke_width(3))]).map_err(fault)?;
                let said = format!("{}{}", ms(spread.median), if is_best { ", best" } else { "" });
                let style = ("sans-serif", 14).into_font().color(&colour);
                chart.draw_series([Text::new(said, (spread.median, at + 0.45), style)]).map_err(fault)?;
            }
        }
        root.present().map_err(fault)?;
    }
    Ok(text)
}
