//! `[header.NAME]`, `[section.NAME]` and `[toolchain]`.

use super::entry::{Entry, MacroHabit, check_c_name, made_path};
use super::fields::Fields;
use super::lookup::Names;
use super::problem::Fault;
use crate::base::{RelPath, is_c_name};
use crate::board::{EnvironmentDef, HeaderDef, HeaderId, HeaderOrder, Interp, MacroForm, SectionDef, Toolchain};

/// Reads an option header, and how it names the macros of options that say nothing themselves.
pub(super) fn header(entry: &Entry<'_>, id: HeaderId) -> (HeaderDef, MacroHabit) {
    let fields = entry.fields("header");
    let path = fields.required_text("output").and_then(|text| made_path(&fields, &text)).unwrap_or_else(RelPath::root);
    let guard = fields.text("guard");
    if let Some(guard) = &guard {
        check_c_name(&fields, guard);
    }
    let prefix = fields.text("prefix");
    if let Some(prefix) = prefix.as_ref().filter(|p| !p.text.is_empty()) {
        check_c_name(&fields, prefix);
    }
    let zero = fields.word("style", &[("one-or-absent", false), ("one-or-zero", true)]).unwrap_or(false);
    let order = if fields.flag("first") { HeaderOrder::First } else { HeaderOrder::Included };
    let modules = module_macros(&fields);
    let own_guard = || {
        let text: String = path.as_str().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        format!("MADE_{}", text.to_ascii_uppercase())
    };
    let guard = guard.map_or_else(own_guard, |g| g.text);
    let prefix = prefix.map_or(String::new(), |p| p.text);
    let name = entry.name.text.clone();
    let header = HeaderDef { name, guard, prefix: prefix.clone(), order, place: entry.name.place, path };
    fields.finish();
    (header, MacroHabit { header: id, prefix, zero, modules })
}

/// Reads how the macros of modules are called: one for what is built in, one for what is loadable, one for either.
fn module_macros(fields: &Fields<'_>) -> Vec<(MacroForm, String)> {
    let Some(found) = fields.get("modules") else { return Vec::new() };
    let Some(sub) = fields.sub(&found, "`modules`") else {
        fields.wrong_type(&found, "a table such as { builtin = \"*\", loadable = \"*_MODULE\" }");
        return Vec::new();
    };
    let keys = [
        ("builtin", MacroForm::BuiltinOrAbsent),
        ("loadable", MacroForm::LoadableOrAbsent),
        ("either", MacroForm::OneOrAbsent),
    ];
    let mut modules = Vec::new();
    for (key, form) in keys {
        let Some(text) = sub.text(key) else { continue };
        if !text.text.contains('*') || !is_c_name(&text.text.replace('*', "X")) {
            let fault = format!("`{}` is no name with `*` in it, which stands for the usual macro", text.text);
            sub.problem(text.place, Fault::Combination(fault));
        }
        modules.push((form, text.text));
    }
    sub.finish();
    modules
}

/// Reads a section.
pub(super) fn section(entry: &Entry<'_>, names: &Names) -> SectionDef {
    let fields = entry.fields("section");
    let title = fields.text("title").map_or_else(|| entry.name.text.clone(), |t| t.text);
    let parent = fields.text("in").and_then(|text| names.sections.find(&text, fields.log()));
    let section = SectionDef { name: entry.name.text.clone(), title, parent, place: Some(entry.name.place) };
    fields.finish();
    section
}

/// Reads how everything is compiled.
pub(super) fn toolchain(fields: &Fields<'_>, names: &Names) -> Toolchain {
    let compiler = |key: &'static str, fallback: &str| {
        fields.text(key).and_then(|t| names.interp(&t, fields.log())).unwrap_or_else(|| Interp::plain(fallback))
    };
    Toolchain {
        c_compiler: compiler("c-compiler", "cc"),
        cxx_compiler: compiler("cxx-compiler", "c++"),
        sysroot: fields.text("sysroot").and_then(|text| names.interp(&text, fields.log())),
        flags: names.interp_list(fields, "flags"),
        c_flags: names.interp_list(fields, "c-flags"),
        cxx_flags: names.interp_list(fields, "cxx-flags"),
        environment: environment_of(fields, names),
        fortran_compiler: compiler("fortran-compiler", "gfortran"),
        fortran_flags: names.interp_list(fields, "fortran-flags"),
        asm_flags: names.interp_list(fields, "asm-flags"),
        assembler: compiler("assembler", "nasm"),
        assembler_flags: names.interp_list(fields, "assembler-flags"),
        link_flags: names.interp_list(fields, "link-flags"),
    }
}

/// Reads what sets the environment of a toolchain.
fn environment_of(fields: &Fields<'_>, names: &Names) -> Option<EnvironmentDef> {
    let script = fields.text("environment-from").and_then(|text| names.interp(&text, fields.log()));
    let modules: Vec<Interp> =
        fields.texts("environment-modules").iter().filter_map(|text| names.interp(text, fields.log())).collect();
    match (script, modules.is_empty()) {
        (Some(_), false) => {
            let text = "the environment comes from a script or from modules; one of `environment-from` and `environment-modules` goes";
            fields.problem(fields.place, Fault::Combination(text.into()));
            None
        }
        (Some(script), true) => Some(EnvironmentDef::Script(script)),
        (None, false) => Some(EnvironmentDef::Modules(modules)),
        (None, true) => None,
    }
}
