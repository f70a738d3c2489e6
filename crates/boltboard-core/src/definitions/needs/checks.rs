//! The checks of a need, in one table: a check is its key with what is read there, and nothing of it stands anywhere else.

use super::sort::{Sort, all_checked, checked};
use super::version_range;
use crate::checks::{
    Ask, AskedIn, CheckLanguage, HostCheck, HostLook, LibraryLinkage, No, Probe, ScriptLanguage, ScriptModule,
    ToolCheck, ValueRange,
};
use crate::definitions::fields::{Context, Fields, Found};
use crate::definitions::keys::{Key, Shape, key};
use crate::definitions::problem::Fault;

/// A check that a need can hold.
pub(super) struct Check {
    /// Its key.
    pub key: Key,
    /// What it tells besides whether the need is there.
    pub tells: Tells,
    read: fn(&Fields<'_>, &'static str, &mut HostCheck),
}

/// What a check tells of a need.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Tells {
    /// Whether it is there.
    Presence,
    /// Its version, too.
    Version,
}

const fn check(
    name: &'static str,
    shape: Shape,
    says: &'static str,
    read: fn(&Fields<'_>, &'static str, &mut HostCheck),
) -> Check {
    Check { key: key(name, shape, says), tells: Tells::Presence, read }
}

const fn with_version(check: Check) -> Check {
    Check { tells: Tells::Version, ..check }
}

/// Keys that say more of a check.
pub(super) const MORE: [Key; 2] = [
    key("version-arguments", Shape::Texts, "how the tool is asked for its version"),
    key("version-pattern", Shape::Text, "a regular expression for its answer; the first group counts"),
];

/// All checks, in the order in which the host is asked.
pub(super) const CHECKS: [Check; 20] = [
    with_version(check(
        "library",
        Shape::Text,
        "an installed metadata file, without `.pc`; its flags are used, and a program must link with them",
        |fields, key, host| host.library = checked(fields, fields.text(key), &Sort::HostName),
    )),
    check("header", Shape::Texts, "headers that the compiler can read, in this order", |fields, key, host| {
        host.headers = all_checked(fields, key, &Sort::HostName);
    }),
    check("link", Shape::Texts, "libraries that a program links with", |fields, key, host| {
        host.link = all_checked(fields, key, &Sort::HostName);
    }),
    check("function", Shape::Texts, "functions that link", |fields, key, host| {
        host.asks.extend(all_checked(fields, key, &Sort::Function).into_iter().map(|name| Ask {
            title: format!("the function {name}"),
            within: AskedIn::Need,
            no: No::Lacks(format!("it has no function {name}")),
            probe: Probe::Function(name),
        }));
    }),
    check("type", Shape::Texts, "types, in the headers of the need", |fields, key, host| {
        host.asks.extend(all_checked(fields, key, &Sort::Type).into_iter().map(|name| Ask {
            title: format!("the type {name}"),
            within: AskedIn::Need,
            probe: Probe::statement(&format!("(void) sizeof({name})")),
            no: No::Lacks(format!("it has no type {name}")),
        }));
    }),
    check("member", Shape::Texts, "members, as in `struct tm.tm_zone`", |fields, key, host| {
        let written = all_checked(fields, key, &Sort::Member);
        let pairs = written.iter().filter_map(|text| text.split_once('.'));
        host.asks.extend(pairs.map(|(of, member)| (of.trim(), member.trim())).map(|(of, member)| Ask {
            title: format!("the member {member} of {of}"),
            within: AskedIn::Need,
            probe: Probe::Lines(format!("static void {}({of} *it) {{ (void) it->{member}; }}\n", Probe::NAME)),
            no: No::Lacks(format!("{of} has no member {member}")),
        }));
    }),
    check(
        "macro",
        Shape::Entries(&["name", "value"]),
        "macros that are defined: a name, or `{ name, value = \">= 0x1270\" }`",
        |fields, key, host| host.asks.extend(fields.list(key).iter().filter_map(|found| of_macro(fields, found))),
    ),
    with_version(check(
        "version-macro",
        Shape::Text,
        "a macro of the headers that holds the version",
        |fields, key, host| host.version_macro = checked(fields, fields.text(key), &Sort::Macro),
    )),
    check("size", Shape::Entries(&["of", "value"]), "`{ of = \"void *\", value = \"= 8\" }`", |fields, key, host| {
        measure(fields, key, "sizeof", host);
    }),
    check("alignment", Shape::Entries(&["of", "value"]), "likewise", |fields, key, host| {
        measure(fields, key, if host.language == CheckLanguage::Cxx { "alignof" } else { "_Alignof" }, host);
    }),
    check("byte-order", Shape::Word(&["little", "big"]), "the byte order", byte_order),
    check("kernel-headers", Shape::Text, "versions of the kernel's headers", |fields, key, host| {
        host.asks.extend(version_range(fields, key).map(|range| Ask {
            title: "the version of the kernel's headers".into(),
            within: AskedIn::Own("linux/version.h".into()),
            no: No::Unfit("the kernel's headers do not say their version".into()),
            probe: Probe::PackedVersion { expression: "LINUX_VERSION_CODE".into(), range },
        }));
    }),
    check("flag", Shape::Texts, "flags that the compiler accepts; without paths", |fields, key, host| {
        host.asks.extend(all_checked(fields, key, &Sort::Flag).into_iter().map(flag));
    }),
    check("link-flag", Shape::Texts, "flags that the linker accepts", |fields, key, host| {
        host.asks.extend(all_checked(fields, key, &Sort::LinkFlag).into_iter().map(|flag| Ask {
            title: format!("whether the linker accepts {flag}"),
            within: AskedIn::Nothing,
            probe: Probe::LinkFlag(flag),
            no: No::Absent,
        }));
    }),
    check("standard", Shape::Texts, "standards, as in `c17` or `c++20`", |fields, key, host| {
        let standard = checked(fields, fields.text(key), &Sort::Standard);
        if standard.as_ref().is_some_and(|standard| standard.contains("++")) {
            host.language = CheckLanguage::Cxx;
        }
        host.asks.extend(standard.map(|standard| flag(format!("-std={standard}"))));
    }),
    check("code", Shape::Text, "a piece of code that compiles, after the headers", |fields, key, host| {
        host.asks.extend(checked(fields, fields.text(key), &Sort::Code).map(|code| Ask {
            title: "whether a piece of code compiles".into(),
            within: AskedIn::Need,
            probe: Probe::Code(code),
            no: No::Absent,
        }));
    }),
    with_version(check("tool", Shape::Texts, "a program of the search path; the first that is there", tool)),
    with_version(check(
        "interpreter-module",
        Shape::Entry(&["program", "module"]),
        "`{ program = \"python3\", module = \"yaml\" }`, for python and perl",
        |fields, key, host| host.script_module = script_module(fields, key),
    )),
    check("file", Shape::Texts, "absolute paths of files", |fields, key, host| {
        let paths = all_checked(fields, key, &Sort::AbsolutePath);
        host.looks.extend(paths.into_iter().map(|path| HostLook::File(path.into())));
    }),
    check("device", Shape::Texts, "absolute paths of devices", |fields, key, host| {
        let paths = all_checked(fields, key, &Sort::AbsolutePath);
        host.looks.extend(paths.into_iter().map(|path| HostLook::Device(path.into())));
    }),
];

/// Reads what a need looks for on the host, and what its checks tell.
pub(super) fn host_check(fields: &Fields<'_>) -> (HostCheck, Vec<Tells>) {
    let mut host = HostCheck {
        language: language(fields),
        linkage: if fields.flag("static") { LibraryLinkage::Static } else { LibraryLinkage::Shared },
        defines: all_checked(fields, "define", &Sort::Define),
        ..HostCheck::default()
    };
    let mut given = Vec::new();
    for check in &CHECKS {
        if fields.get(check.key.name).is_some() {
            (check.read)(fields, check.key.name, &mut host);
            given.push(check.tells);
        }
    }
    let said = MORE.iter().any(|key| fields.get(key.name).is_some());
    if said && fields.get("tool").is_none() {
        let text = "`version-arguments` and `version-pattern` belong to a `tool`".to_string();
        fields.problem(fields.place, Fault::Combination(text));
    }
    (host, given)
}

fn flag(flag: String) -> Ask {
    Ask {
        title: format!("whether the compiler accepts {flag}"),
        within: AskedIn::Nothing,
        probe: Probe::Flag(flag),
        no: No::Absent,
    }
}

fn language(fields: &Fields<'_>) -> CheckLanguage {
    fields.word("language", &[("c", CheckLanguage::C), ("c++", CheckLanguage::Cxx)]).unwrap_or(CheckLanguage::C)
}

/// `"NAME"` or `{ name = "NAME", value = ">= 3" }`
fn of_macro(fields: &Fields<'_>, found: &Found<'_>) -> Option<Ask> {
    let (name, range) = match found.text() {
        Some(text) => (checked(fields, Some(text), &Sort::Macro)?, None),
        None => measured(fields, found, "name", &Sort::Macro)?,
    };
    Some(match range {
        Some(range) => constant(format!("value of {name}"), name, range),
        None => Ask {
            title: format!("the macro {name}"),
            within: AskedIn::Need,
            probe: Probe::condition(&format!("defined {name}"), &format!("{name} is not defined")),
            no: No::Lacks(format!("it does not define {name}")),
        },
    })
}

/// `{ of = "void *", value = "= 8" }`, or a list.
fn measure(fields: &Fields<'_>, key: &'static str, operator: &str, host: &mut HostCheck) {
    host.asks.extend(fields.list(key).iter().filter_map(|found| {
        let (of, range) = measured(fields, found, "of", &Sort::Type)?;
        let Some(range) = range else {
            fields.problem(found.place, Fault::Missing { key: "value", context: format!("an entry of `{key}`") });
            return None;
        };
        Some(constant(format!("{key} of {of}"), format!("{operator}({of})"), range))
    }));
}

fn constant(title: String, expression: String, range: ValueRange) -> Ask {
    let no = No::Unfit(format!("{expression} is not a constant here"));
    Ask { title, within: AskedIn::Need, probe: Probe::Holds { expression, range }, no }
}

fn measured(
    fields: &Fields<'_>,
    found: &Found<'_>,
    name_key: &'static str,
    sort: &Sort,
) -> Option<(String, Option<ValueRange>)> {
    let Some(sub) = fields.sub(found, Context::Named("an entry of", found.key)) else {
        fields.wrong_type(found, &format!("a table such as {{ {name_key} = \"…\", value = \">= 8\" }}"));
        return None;
    };
    let name = checked(fields, sub.required_text(name_key), sort);
    let range = sub.text("value").and_then(|text| match text.text.parse::<ValueRange>() {
        Ok(range) => Some(range),
        Err(fault) => {
            fields.problem(text.place, Fault::Combination(fault.to_string()));
            None
        }
    });
    sub.finish();
    Some((name?, range))
}

fn byte_order(fields: &Fields<'_>, key: &'static str, host: &mut HostCheck) {
    let orders = [("little", "LITTLE"), ("big", "BIG")].map(|(word, name)| (word, (word, name)));
    let Some((word, name)) = fields.word(key, &orders) else { return };
    let order = format!("__ORDER_{name}_ENDIAN__");
    let not_so = format!("the byte order is not {word}");
    host.asks.push(Ask {
        title: "the byte order".into(),
        within: AskedIn::Nothing,
        probe: Probe::condition(&format!("defined __BYTE_ORDER__ && __BYTE_ORDER__ == {order}"), &not_so),
        no: No::Unfit(not_so),
    });
}

fn tool(fields: &Fields<'_>, key: &'static str, host: &mut HostCheck) {
    let names = all_checked(fields, key, &Sort::Program);
    let mut arguments = all_checked(fields, "version-arguments", &Sort::Argument);
    let pattern = fields.text("version-pattern");
    if let Some(text) = &pattern
        && let Err(fault) = version_regex(&text.text)
    {
        let fault = fault.to_string();
        let last = fault.lines().last().unwrap_or_default().trim_start_matches("error: ");
        fields.problem(text.place, Fault::Combination(format!("`{}` is not a regular expression: {last}", text.text)));
    }
    if arguments.is_empty() {
        arguments.push("--version".into());
    }
    let pattern = pattern.map(|text| text.text);
    host.tool =
        (!names.is_empty()).then_some(ToolCheck { names, version_arguments: arguments, version_pattern: pattern });
}

/// Compiles a pattern for versions, within limits.
pub(crate) fn version_regex(pattern: &str) -> Result<regex::Regex, regex::Error> {
    regex::RegexBuilder::new(pattern).size_limit(256 * 1024).nest_limit(50).multi_line(true).build()
}

fn script_module(fields: &Fields<'_>, key: &'static str) -> Option<ScriptModule> {
    let found = fields.get(key)?;
    let Some(sub) = fields.sub(&found, key) else {
        fields.wrong_type(&found, "a table such as { program = \"python3\", module = \"yaml\" }");
        return None;
    };
    let program = sub.required_text("program");
    let name = checked(fields, sub.required_text("module"), &Sort::ScriptModule);
    sub.finish();
    let program = program?;
    let Some(language) = ScriptLanguage::of(&program.text) else {
        let text = format!("modules of `{}` cannot be asked for: python and perl can", program.text.escape_debug());
        fields.problem(program.place, Fault::Combination(text));
        return None;
    };
    Some(ScriptModule { program: checked(fields, Some(program), &Sort::Program)?, language, name: name? })
}
