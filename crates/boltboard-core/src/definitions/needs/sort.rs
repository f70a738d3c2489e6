//! What texts of needs must be: what stands here reaches the compiler's command line and the person's shell, so each text is held to
//! what it can rightly be.

use crate::checks::Package;
use crate::definitions::fields::{Fields, Text};
use crate::definitions::problem::Fault;

/// The longest text that is asked of a compiler, in bytes.
const MAX_ASKED: usize = 4096;

/// What a text must be.
pub(super) enum Sort {
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
            Sort::Packages => text.split(' ').all(|name| name.parse::<Package>().is_ok()),
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

/// Returns a text that is of its sort, or says what is wrong with it.
pub(super) fn checked(fields: &Fields<'_>, text: Option<Text>, sort: &Sort) -> Option<String> {
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

/// The same for a text or a list of texts.
pub(super) fn all_checked(fields: &Fields<'_>, key: &'static str, sort: &Sort) -> Vec<String> {
    fields.texts(key).into_iter().filter_map(|text| checked(fields, Some(text), sort)).collect()
}
