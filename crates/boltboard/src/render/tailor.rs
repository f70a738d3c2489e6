//! A profile that covers what machines use, told.

use boltboard_core::board::Board;
use boltboard_core::profile::ProfileName;
use boltboard_core::session::Resolved;
use boltboard_core::tailor::{Evidence, Sign, Tailored};
use serde::Serialize;

use super::text::{Cell, Role, columns, count, next_lines, paint, wrap};
use crate::fault::Next;

/// The answer.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct TailorTold {
    format: u32,
    profile: String,
    written: bool,
    machines: Vec<String>,
    kept: Vec<KeptTold>,
    along: Vec<String>,
    left_out: Vec<LeftOutTold>,
    required: Vec<String>,
    impossible: Vec<String>,
    parts_before: usize,
    parts_after: usize,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct KeptTold {
    option: String,
    value: String,
    because: Vec<String>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct LeftOutTold {
    option: String,
    summary: String,
    later: String,
}

fn sign(sign: &Sign, several: bool) -> String {
    let on = |machine: &String| if several && !machine.is_empty() { format!(" on {machine}") } else { String::new() };
    match sign {
        Sign::Device(device, machine) => format!("the device {device}{}", on(machine)),
        Sign::Module(module, machine) => format!("the module {module} is loaded{}", on(machine)),
        Sign::Mapped(name, machine) => format!("{name} runs{}", on(machine)),
        Sign::File(file, machine) => format!("{file} is there{}", on(machine)),
        Sign::Wanted => "you keep it".into(),
    }
}

/// What it will cost one day that an option was left out.
fn later(board: &Board, option: boltboard_core::board::OptionId) -> String {
    match board.signs.get(&option) {
        Some(signs) if !signs.serves.is_empty() => {
            format!("a device like {} that is plugged in later will not work", signs.serves.join(", "))
        }
        Some(signs) if !signs.shown_by.is_empty() => format!("{} will do without it", signs.shown_by.join(", ")),
        _ => "whatever loads its module later will not find it".into(),
    }
}

impl TailorTold {
    /// Puts the answer together.
    pub fn new(
        format: u32,
        board: &Board,
        tailored: &Tailored,
        (before, after): (&Resolved, &Resolved),
        evidence: &[Evidence],
        (name, written): (&ProfileName, bool),
    ) -> TailorTold {
        let several = evidence.len() > 1;
        let named = |options: &[boltboard_core::board::OptionId]| -> Vec<String> {
            options.iter().map(|option| board.options[*option].name.clone()).collect()
        };
        let kept = tailored.kept.iter().map(|kept| KeptTold {
            option: board.options[kept.option].name.clone(),
            value: kept.value.to_string(),
            because: kept.signs.iter().map(|one| sign(one, several)).collect(),
        });
        let chosen = |option| tailored.chosen.iter().any(|(known, _)| *known == option);
        let along = after.resolution.iter().filter(|(option, now)| {
            let was_off = before.resolution.value(*option).is_off();
            !chosen(*option) && was_off && !now.value.is_off() && board.options[*option].kind.is_on_off()
        });
        let left_out = tailored.left_out.iter().map(|option| LeftOutTold {
            option: board.options[*option].name.clone(),
            summary: board.options[*option].summary.clone(),
            later: later(board, *option),
        });
        let parts = |resolved: &Resolved| board.parts.ids().filter(|part| resolved.makes(board, *part)).count();
        TailorTold {
            format,
            profile: name.to_string(),
            written,
            machines: evidence.iter().map(|one| one.machine.clone()).collect(),
            kept: kept.collect(),
            along: along.map(|(option, _)| board.options[option].name.clone()).collect(),
            left_out: left_out.collect(),
            required: named(&tailored.required),
            impossible: named(&tailored.impossible),
            parts_before: parts(before),
            parts_after: parts(after),
        }
    }
}

/// Draws the answer.
pub fn text(told: &TailorTold, width: usize) -> String {
    let title = |text: &str| format!("\n{}\n", paint(Role::Title, text));
    let machines: Vec<&str> = told.machines.iter().map(String::as_str).filter(|name| !name.is_empty()).collect();
    let of = if machines.is_empty() { "this machine".to_string() } else { machines.join(", ") };
    let mut text = format!(
        "By what {of} shows: {} made instead of {}.\n",
        count(told.parts_after, "part is", "parts are"),
        told.parts_before
    );
    if !told.kept.is_empty() {
        text += &title(&format!("Stays ({})", told.kept.len()));
        let row = |kept: &KeptTold| -> Vec<Cell> {
            vec![
                (Role::Name, kept.option.clone()),
                (Role::Value, kept.value.clone()),
                (Role::Faint, kept.because.join("; ")),
            ]
        };
        text += &columns(&told.kept.iter().map(row).collect::<Vec<_>>(), 2, width);
    }
    let mut list = |head: &str, names: &[String]| {
        if !names.is_empty() {
            text += &title(&format!("{head} ({})", names.len()));
            wrap(&names.join(", "), width.saturating_sub(2)).iter().for_each(|line| text += &format!("  {line}\n"));
        }
    };
    list("Comes along, because what stays requires it", &told.along);
    list("Stays though nothing shows it, because what stays requires it", &told.required);
    list("Shown, and cannot be had beside the others or on this host", &told.impossible);
    if !told.left_out.is_empty() {
        text += &title(&format!("Goes ({})", told.left_out.len()));
        let row = |one: &LeftOutTold| -> Vec<Cell> {
            vec![(Role::Name, one.option.clone()), (Role::Faint, one.summary.clone()), (Role::Faint, one.later.clone())]
        };
        text += &columns(&told.left_out.iter().map(row).collect::<Vec<_>>(), 2, width);
    }
    let next = if told.written {
        vec![
            Next::new(format!("boltboard profile use {}", told.profile), "use it"),
            Next::new(format!("boltboard compare {}", told.profile), "what that makes of it"),
        ]
    } else {
        vec![Next::new("boltboard tailor", "make a profile of it")]
    };
    text += "\n";
    text += &next_lines(&next, 0);
    text
}
