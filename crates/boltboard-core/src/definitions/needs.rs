//! Reading needs. What stands here reaches the compiler's command line and the person's shell, so each text is held to what it
//! can rightly be.

use std::collections::BTreeMap;
use std::path::PathBuf;

use super::entry::{Entry, machine};
use super::fields::{Context, Fields, Found, Text};
use super::lookup::Names;
use super::problem::Fault;
use crate::base::VersionRange;
use crate::board::{
    Ask, ByteOrder, CheckLanguage, HostCheck, HostFile, HostFileKind, Importance, LibraryLinkage, NeedCheck, NeedDef,
    NeedId, ScriptLanguage, ScriptModule, ToolCheck, ValueRange,
};

/// The distributions that packages can be named for.
pub const DISTRIBUTIONS: [&str; 5] = ["debian", "fedora", "opensuse", "arch", "alpine"];

/// The longest text that is asked of a compiler, in bytes.
const MAX_ASKED: usize = 4096;

/// The keys that look for something.
const CHECKS: [&str; 20] = [
    "library",
    "header",
    "link",
    "function",
    "type",
    "member",
    "macro",
    "version-macro",
    "size",
    "alignment",
    "byte-order",
    "kernel-headers",
    "flag",
    "link-flag",
    "standard",
    "code",
    "tool",
    "interpreter-module",
    "file",
    "device",
];

/// Reads a need.
pub(super) fn need(entry: &Entry<'_>, names: &Names) -> NeedDef {
    let fields = entry.fields("need");
    fields.get("accept");
    let any_of = members(&fields, names, "any-of");
    let all_of = members(&fields, names, "all-of");
    let version = version_range(&fields, "version");
    let host = host_check(&fields);
    let asked = CHECKS.iter().any(|key| fields.get(key).is_some());
    let wrong = |text: String| fields.problem(fields.place, Fault::Combination(text));
    let ways = [asked, any_of.is_some(), all_of.is_some()].into_iter().filter(|way| *way).count();
    if ways == 0 {
        wrong(format!(
            "{} says nothing to look for: give `library`, `header`, `link`, `function`, `tool` or another check",
            fields.context
        ));
    } else if ways > 1 {
        wrong(
            "a need is made of other needs or looks for things itself: give one of `any-of`, `all-of` and checks"
                .into(),
        );
    }
    let told_by = ["library", "tool", "version-macro", "interpreter-module"];
    let tells_version = told_by.iter().any(|key| fields.get(key).is_some());
    if version.is_some() && !tells_version {
        wrong("nothing here has a version: give `library`, `version-macro`, `tool` or `interpreter-module` too".into());
    }
    let check = match (any_of, all_of) {
        (Some(members), _) => NeedCheck::AnyOf(members),
        (None, Some(members)) => NeedCheck::AllOf(members),
        (None, None) => NeedCheck::Host(Box::new(host)),
    };
    let need = NeedDef {
        name: entry.name.text.clone(),
        summary: fields.text_or_empty("summary"),
        machine: machine(&fields),
        check,
        version,
        packages: packages(&fields),
        bundled: fields.text("bundled").and_then(|text| names.parts.find(&text, fields.log())),
        importance: if fields.flag("required") { Importance::Required } else { Importance::Optional },
        place: entry.name.place,
    };
    fields.finish();
    need
}

fn members(fields: &Fields<'_>, names: &Names, key: &'static str) -> Option<Vec<NeedId>> {
    fields.get(key)?;
    Some(fields.texts(key).iter().filter_map(|text| names.needs.find(text, fields.log())).collect())
}

fn host_check(fields: &Fields<'_>) -> HostCheck {
    let host_name = |key: &'static str| checked(fields, fields.text(key), &Sort::HostName);
    let host_names = |key: &'static str| all_checked(fields, key, &Sort::HostName);
    let mut asks = Vec::new();
    asks.extend(all_checked(fields, "function", &Sort::Function).into_iter().map(Ask::Function));
    asks.extend(all_checked(fields, "type", &Sort::Type).into_iter().map(Ask::Type));
    for text in all_checked(fields, "member", &Sort::Member) {
        if let Some((of, member)) = text.split_once('.') {
            asks.push(Ask::Member { of: of.trim().to_string(), member: member.trim().to_string() });
        }
    }
    asks.extend(macros(fields));
    let mut language = language(fields);
    let alignment = if language == CheckLanguage::Cxx { "alignof" } else { "_Alignof" };
    asks.extend(measures(fields, "size", "sizeof"));
    asks.extend(measures(fields, "alignment", alignment));
    asks.extend(version_range(fields, "kernel-headers").map(Ask::KernelHeaders));
    asks.extend(byte_order(fields));
    asks.extend(all_checked(fields, "flag", &Sort::Flag).into_iter().map(Ask::Flag));
    asks.extend(all_checked(fields, "link-flag", &Sort::LinkFlag).into_iter().map(Ask::LinkFlag));
    if let Some(standard) = checked(fields, fields.text("standard"), &Sort::Standard) {
        if standard.contains("++") {
            language = CheckLanguage::Cxx;
        }
        asks.push(Ask::Flag(format!("-std={standard}")));
    }
    asks.extend(checked(fields, fields.text("code"), &Sort::Code).map(Ask::Code));
    HostCheck {
        language,
        library: host_name("library"),
        linkage: if fields.flag("static") { LibraryLinkage::Static } else { LibraryLinkage::Shared },
        headers: host_names("header"),
        link: host_names("link"),
        defines: all_checked(fields, "define", &Sort::Define),
        asks,
        version_macro: checked(fields, fields.text("version-macro"), &Sort::Macro),
        tool: tool(fields),
        script_module: script_module(fields),
        files: files(fields),
    }
}

fn language(fields: &Fields<'_>) -> CheckLanguage {
    let Some(text) = fields.text("language") else { return CheckLanguage::C };
    match text.text.as_str() {
        "c" => CheckLanguage::C,
        "c++" => CheckLanguage::Cxx,
        other => {
            fields.problem(
                text.place,
                Fault::Combination(format!("`{other}` is not a language here: write `c` or `c++`")),
            );
            CheckLanguage::C
        }
    }
}

/// `macro = "NAME"`, `{ name = "NAME", value = ">= 3" }`, or a list of either.
fn macros(fields: &Fields<'_>) -> Vec<Ask> {
    let read = |found: &Found<'_>| {
        if let Some(text) = found.text() {
            return checked(fields, Some(text), &Sort::Macro).map(Ask::Macro);
        }
        let (name, range) = measured(fields, found, "name", &Sort::Macro)?;
        Some(match range {
            Some(range) => Ask::Value { title: format!("value of {name}"), expression: name, range },
            None => Ask::Macro(name),
        })
    };
    fields.list("macro").iter().filter_map(read).collect()
}

/// `size = { of = "void *", value = "= 8" }`, or a list.
fn measures(fields: &Fields<'_>, key: &'static str, operator: &str) -> Vec<Ask> {
    let read = |found: &Found<'_>| {
        let (of, range) = measured(fields, found, "of", &Sort::Type)?;
        let Some(range) = range else {
            fields.problem(found.place, Fault::Missing { key: "value", context: format!("an entry of `{key}`") });
            return None;
        };
        Some(Ask::Value { title: format!("{key} of {of}"), expression: format!("{operator}({of})"), range })
    };
    fields.list(key).iter().filter_map(read).collect()
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

fn byte_order(fields: &Fields<'_>) -> Option<Ask> {
    let text = fields.text("byte-order")?;
    match text.text.as_str() {
        "little" => Some(Ask::ByteOrder(ByteOrder::Little)),
        "big" => Some(Ask::ByteOrder(ByteOrder::Big)),
        other => {
            fields.problem(
                text.place,
                Fault::Combination(format!("`{other}` is not a byte order: write `little` or `big`")),
            );
            None
        }
    }
}

fn tool(fields: &Fields<'_>) -> Option<ToolCheck> {
    let names = all_checked(fields, "tool", &Sort::Program);
    let mut arguments = all_checked(fields, "version-arguments", &Sort::Argument);
    let pattern = fields.text("version-pattern");
    if let Some(text) = &pattern
        && let Err(fault) = version_regex(&text.text)
    {
        let fault = fault.to_string();
        let last = fault.lines().last().unwrap_or_default().trim_start_matches("error: ");
        fields.problem(text.place, Fault::Combination(format!("`{}` is not a regular expression: {last}", text.text)));
    }
    if names.is_empty() {
        if pattern.is_some() || !arguments.is_empty() {
            let text = "`version-arguments` and `version-pattern` belong to a `tool`".to_string();
            fields.problem(fields.place, Fault::Combination(text));
        }
        return None;
    }
    if arguments.is_empty() {
        arguments.push("--version".into());
    }
    Some(ToolCheck { names, version_arguments: arguments, version_pattern: pattern.map(|t| t.text) })
}

/// Compiles a pattern for versions, within limits.
pub(crate) fn version_regex(pattern: &str) -> Result<regex::Regex, regex::Error> {
    regex::RegexBuilder::new(pattern).size_limit(256 * 1024).nest_limit(50).multi_line(true).build()
}

fn script_module(fields: &Fields<'_>) -> Option<ScriptModule> {
    let found = fields.get("interpreter-module")?;
    let Some(sub) = fields.sub(&found, "interpreter-module") else {
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

fn files(fields: &Fields<'_>) -> Vec<HostFile> {
    let of = |key: &'static str, kind: HostFileKind| {
        let paths = all_checked(fields, key, &Sort::AbsolutePath);
        paths.into_iter().map(move |path| HostFile { path: PathBuf::from(path), kind })
    };
    of("file", HostFileKind::File).chain(of("device", HostFileKind::Device)).collect()
}

fn version_range(fields: &Fields<'_>, key: &'static str) -> Option<VersionRange> {
    let text = fields.text(key)?;
    match text.text.parse::<VersionRange>() {
        Ok(range) => Some(range),
        Err(fault) => {
            fields.problem(text.place, Fault::Combination(fault.to_string()));
            None
        }
    }
}

fn packages(fields: &Fields<'_>) -> BTreeMap<String, String> {
    let Some(found) = fields.get("packages") else { return BTreeMap::new() };
    let Some(sub) = fields.sub(&found, "packages") else {
        fields.wrong_type(&found, "a table such as { debian = \"…\", fedora = \"…\" }");
        return BTreeMap::new();
    };
    let mut packages = BTreeMap::new();
    for distribution in DISTRIBUTIONS {
        if let Some(name) = checked(&sub, sub.text(distribution), &Sort::Packages) {
            packages.insert(distribution.to_string(), name);
        }
    }
    sub.finish();
    packages
}

/// What a text must be.
enum Sort {
    HostName,
    Packages,
    Program,
    Function,
    Type,
    Member,
    Macro,
    Define,
    Flag,
    LinkFlag,
    Standard,
    Argument,
    ScriptModule,
    AbsolutePath,
    Code,
}

impl Sort {
    fn title(&self) -> &'static str {
        match self {
            Sort::HostName => "a name of the host",
            Sort::Packages => "names of packages, with a blank between them",
            Sort::Program => "a program's name; it is looked for in the search path",
            Sort::Function => "a function's name",
            Sort::Type => "a type, such as `struct tm` or `uint64_t`",
            Sort::Member => "a member, such as `struct tm.tm_zone`",
            Sort::Macro => "a macro's name",
            Sort::Define => "a macro, as NAME or NAME=VALUE",
            Sort::Flag => "a compiler's flag that is tried: -f…, -m…, -W…, -O… or -std=… without a path",
            Sort::LinkFlag => "a linker's flag that is tried, such as -Wl,--as-needed, without a path",
            Sort::Standard => "a language standard, such as c17 or c++20",
            Sort::Argument => "an argument that only asks for a version, such as -V or --version",
            Sort::ScriptModule => "a module's name",
            Sort::AbsolutePath => "an absolute path of the host",
            Sort::Code => "a piece of code",
        }
    }

    fn fits(&self, text: &str) -> bool {
        let only = |more: &str| text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || more.contains(c));
        let word = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
        match self {
            Sort::HostName => only("-.+/") && !text.starts_with(['-', '/']) && !text.contains(".."),
            Sort::Packages => text.split(' ').all(|name| !name.is_empty() && Sort::HostName.fits(name)),
            Sort::Program => only("-.+") && !text.starts_with(['-', '.']),
            Sort::Function => word && only(":"),
            Sort::Type => word && only(" :<>,*"),
            Sort::Member => {
                word && only(" :<>.") && text.split_once('.').is_some_and(|(of, m)| !of.is_empty() && !m.is_empty())
            }
            Sort::Macro => word && only(""),
            Sort::Define => word && only("=.-"),
            Sort::Flag => {
                let known = ["-f", "-m", "-W", "-O", "-std=", "-pthread", "-g"];
                let barred = ["-Wp,", "-Wa,", "-Wl,", "-fplugin", "-fdump", "-fprofile", "-fsave", "-fopt-info"];
                only("-=+.,:")
                    && known.iter().any(|start| text.starts_with(start))
                    && !barred.iter().any(|start| text.starts_with(start))
            }
            Sort::LinkFlag => {
                let known = ["-Wl,-", "-static", "-shared", "-pie", "-no-pie", "-rdynamic", "-f", "-pthread"];
                let barred = ["plugin", "-Map", "script", "-T", ",-o", "output", "-fdump", "-fsave", "@", "-r,", ",-c"];
                only("-=+.,:")
                    && known.iter().any(|start| text.starts_with(start))
                    && !barred.iter().any(|inner| text.contains(inner))
            }
            Sort::Standard => {
                (text.starts_with('c') || text.starts_with("gnu") || text.starts_with("iso")) && only("+:")
            }
            // Anything else could make a program do more than tell its version.
            Sort::Argument => {
                let bare = text.trim_start_matches('-');
                matches!(text, "-v" | "-V" | "-h" | "--help")
                    || (text.len() < 30 && only("-") && bare.contains("version"))
            }
            Sort::ScriptModule => word && only(".:"),
            Sort::AbsolutePath => {
                text.starts_with('/') && !text.split('/').any(|p| p == "..") && !text.contains(char::is_control)
            }
            Sort::Code => text.len() <= MAX_ASKED && !text.contains(|c: char| c.is_control() && c != '\n' && c != '\t'),
        }
    }
}

fn checked(fields: &Fields<'_>, text: Option<Text>, sort: &Sort) -> Option<String> {
    let text = text?;
    let long = text.text.len() > 300 && !matches!(sort, Sort::Code);
    if text.text.is_empty() || long || !sort.fits(&text.text) {
        let shown: String = text.text.chars().take(60).collect();
        let fault = format!("`{}` cannot be {}", shown.escape_debug(), sort.title());
        fields.problem(text.place, Fault::Combination(fault));
        return None;
    }
    Some(text.text)
}

fn all_checked(fields: &Fields<'_>, key: &'static str, sort: &Sort) -> Vec<String> {
    fields.texts(key).into_iter().filter_map(|text| checked(fields, Some(text), sort)).collect()
}
