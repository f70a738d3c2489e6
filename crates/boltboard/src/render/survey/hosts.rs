//! Hosts side by side, and the compilers of one.

use std::path::PathBuf;

use boltboard_core::profile::ProfileName;
use boltboard_core::survey::{Differing, HostDifference, Language, Toolchain, Wrapper};

use crate::fault::Next;
use crate::render::text::{Cell, Role, columns, columns_within, count, next_lines, paint};

fn what(difference: &HostDifference) -> String {
    match &difference.what {
        Differing::Distribution => "distribution".into(),
        Differing::Compiler => "compiler".into(),
        Differing::Target => "target".into(),
        Differing::Variable(name) | Differing::Need(name) => name.clone(),
    }
}

/// Two hosts side by side.
pub fn compared(list: &[HostDifference], other: &str, width: usize) -> String {
    if list.is_empty() {
        return format!("This host meets the tree's needs just as {other} does.\n");
    }
    let title = format!("{} from {other}", count(list.len(), "difference", "differences"));
    let head = ["", other, "here"].map(|text| (Role::Faint, text.to_string())).to_vec();
    let row = |difference: &HostDifference| -> Vec<Cell> {
        let or_none = |text: &String| if text.is_empty() { "none".to_string() } else { text.clone() };
        vec![
            (Role::Name, what(difference)),
            (Role::Value, or_none(&difference.before)),
            (Role::Value, or_none(&difference.after)),
        ]
    };
    let rows: Vec<Vec<Cell>> = std::iter::once(head).chain(list.iter().map(row)).collect();
    format!("{}\n{}", paint(Role::Title, &title), columns_within(&rows, 2, width, width / 2 - 8))
}

/// What has changed on the host since a profile was built, as a remark.
pub fn changed_host(list: &[HostDifference], profile: &ProfileName) -> String {
    let mut text = format!("{} the host has changed since {profile} was last built:\n", paint(Role::Warn, "note:"));
    for difference in list.iter().take(12) {
        let name = paint(Role::Name, &what(difference));
        text.push_str(&format!("  {name}: {} → {}\n", difference.before, difference.after));
    }
    if list.len() > 12 {
        text.push_str(&format!("  and {} more\n", list.len() - 12));
    }
    text.push_str(&next_lines(&[Next::new("boltboard preview", "what a build does about it")], 2));
    text
}

/// The compilers of a host, and what those add that run others.
pub fn toolchain_list(list: &[Toolchain], in_use: &[PathBuf], width: usize) -> String {
    if list.is_empty() {
        return "There is no compiler in the search path.\n".into();
    }
    let row = |toolchain: &Toolchain| -> Vec<Cell> {
        let names = toolchain.names.join(", ");
        match &toolchain.compiler {
            Ok(compiler) => {
                let used = in_use.contains(&compiler.real_path);
                vec![
                    (Role::Faint, language_name(toolchain.language).into()),
                    (Role::Name, names),
                    (Role::Value, compiler.short_version()),
                    (Role::Value, compiler.target.clone()),
                    (Role::Good, if used { "in use" } else { "" }.to_string()),
                    (Role::Faint, compiler.real_path.display().to_string()),
                ]
            }
            Err(fault) => vec![
                (Role::Faint, language_name(toolchain.language).into()),
                (Role::Name, names),
                (Role::Bad, fault.to_string()),
            ],
        }
    };
    let table = columns(&list.iter().map(row).collect::<Vec<_>>(), 0, width);
    let wrappers = list.iter().filter_map(|toolchain| toolchain.compiler.as_ref().ok()?.wrapper.as_ref());
    let lines = wrappers.flat_map(|wrapper| crate::render::text::wrap(&adds(wrapper), width));
    table + &lines.map(|line| format!("{}\n", paint(Role::Faint, &line))).collect::<String>()
}

/// What a compiler adds that runs another one.
pub fn adds(wrapper: &Wrapper) -> String {
    let added = if wrapper.adds.is_empty() { "nothing".into() } else { wrapper.adds.join(" ") };
    format!("{} runs {} and adds {added}", wrapper.name, wrapper.runs)
}

/// A language as people write it.
pub fn language_name(language: Language) -> &'static str {
    match language {
        Language::C => "C",
        Language::Cxx => "C++",
        Language::Fortran | Language::FortranWithCpp => "Fortran",
        Language::Asm | Language::AsmWithCpp | Language::OwnAsm => "assembly",
    }
}
