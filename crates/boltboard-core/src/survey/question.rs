//! What is asked of a compiler: each question as a few lines of a program, so that many can stand in one.

use std::fmt::Write as _;

use super::Language;
use crate::base::Digest;
use crate::checks::Probe;

/// What a question is asked under.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Setting {
    /// The language.
    pub language: Language,
    /// Flags of the compile, with `-D` for macros.
    pub flags: Vec<String>,
    /// Headers that are read before.
    pub headers: Vec<String>,
}

/// One question. Equal questions are asked once.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Question {
    /// What it is asked under.
    pub setting: Setting,
    /// What is asked.
    pub body: Body,
}

/// What is asked.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Body {
    /// Can this header be read?
    Readable(String),
    /// Do these lines compile, with a name of their own for [`Probe::NAME`]?
    Lines(String),
    /// What number is this constant?
    Value(String),
    /// Does this hold of this constant?
    Holds { condition: String, of: String },
    /// Is this function declared, or a macro?
    Declared(String),
    /// What does this macro stand for, as text?
    Text(String),
    /// Does this code compile?
    Code(String),
    /// Can this function be linked, with these flags of the link?
    Function { name: String, link: Vec<String> },
    /// Does a program link with these flags?
    Links(Vec<String>),
    /// Does the compiler take this flag?
    Flag(String),
    /// Does the linker take this flag?
    LinkFlag(String),
}

impl Body {
    /// Returns what asks a probe, of a need that is linked with these flags.
    pub fn of(probe: &Probe, link: &[String]) -> Body {
        match probe {
            Probe::Lines(lines) => Body::Lines(lines.clone()),
            Probe::Code(code) => Body::Code(code.clone()),
            Probe::Holds { expression, range } => {
                Body::Holds { condition: range.as_condition(expression), of: expression.clone() }
            }
            Probe::PackedVersion { expression, .. } => Body::Value(expression.clone()),
            Probe::Function(name) => Body::Function { name: name.clone(), link: link.to_vec() },
            Probe::Flag(flag) => Body::Flag(flag.clone()),
            Probe::LinkFlag(flag) => Body::LinkFlag(flag.clone()),
        }
    }
}

/// What must be the same for questions to share a run of the compiler.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum RunKey {
    /// One file with the answers as errors.
    Compile(Setting),
    /// One file for many lists of headers, each asked about before and after its headers are read.
    Chain(Language, Vec<String>),
    /// One file with the answers as data of its object.
    Object(Setting),
    /// A file of its own, because free text can spoil what follows it.
    Code(Setting, String),
    /// One program that names all functions.
    Functions(Setting, Vec<String>),
    /// One program linked with all libraries; the flags are those that name none.
    Links(Language, Vec<String>),
    /// One compile with all flags.
    Flags(Language),
    /// One link with all flags.
    LinkFlags(Language),
}

impl Question {
    /// Returns what it can share a run with.
    pub fn run_key(&self) -> RunKey {
        let setting = self.setting.clone();
        let language = setting.language;
        match &self.body {
            // Headers that are only read can be read together; anything else sees just the headers that it names.
            Body::Readable(_) | Body::Lines(_) | Body::Holds { .. } | Body::Declared(_) => RunKey::Compile(setting),
            Body::Value(_) | Body::Text(_) => RunKey::Object(setting),
            Body::Code(code) => RunKey::Code(setting, code.clone()),
            Body::Function { link, .. } => RunKey::Functions(setting, link.clone()),
            Body::Links(flags) => {
                let mut rest: Vec<String> = flags.iter().filter(|flag| !is_library(flag)).cloned().collect();
                rest.sort();
                RunKey::Links(language, rest)
            }
            Body::Flag(_) => RunKey::Flags(language),
            Body::LinkFlag(_) => RunKey::LinkFlags(language),
        }
    }

    /// Tells whether it can be asked before and after its headers are read.
    pub fn can_chain(&self) -> bool {
        match self.body {
            Body::Lines(_) | Body::Holds { .. } | Body::Declared(_) => !self.setting.headers.is_empty(),
            Body::Readable(_) => self.setting.headers.is_empty(),
            _ => false,
        }
    }

    /// Returns the digest that its answer is kept under, for a compiler with this identity.
    pub fn digest(&self, compiler: &Digest) -> Digest {
        let mut text = compiler.to_string();
        let mut add = |part: &str| {
            // No part holds this character, so the borders count.
            text.push('\0');
            text.push_str(part);
        };
        let Setting { language, flags, headers } = &self.setting;
        add(if *language == Language::Cxx { "c++" } else { "c" });
        flags.iter().for_each(|flag| add(flag));
        add("headers");
        headers.iter().for_each(|header| add(header));
        let (sort, first, more): (&str, &str, &[String]) = match &self.body {
            Body::Readable(name) => ("readable", name, &[]),
            Body::Lines(lines) => ("lines", lines, &[]),
            Body::Value(name) => ("value", name, &[]),
            Body::Holds { condition, .. } => ("holds", condition, &[]),
            Body::Declared(name) => ("declared", name, &[]),
            Body::Text(name) => ("text", name, &[]),
            Body::Code(code) => ("code", code, &[]),
            Body::Function { name, link } => ("function", name, link),
            Body::Links(flags) => ("links", "", flags),
            Body::Flag(flag) => ("flag", flag, &[]),
            Body::LinkFlag(flag) => ("link flag", flag, &[]),
        };
        add(sort);
        add(first);
        more.iter().for_each(|part| add(part));
        Digest::of(text.as_bytes())
    }

    /// Returns what is asked when the answer is no, to tell people more.
    pub fn follow_up(&self) -> Option<Question> {
        match &self.body {
            Body::Holds { of, .. } => Some(Question { setting: self.setting.clone(), body: Body::Value(of.clone()) }),
            _ => None,
        }
    }

    /// Returns cheaper questions that together are as good when all are answered with yes: what takes a run of its own only
    /// because of its headers is asked for in two runs that it shares.
    pub fn cheaper(&self) -> Vec<Question> {
        match &self.body {
            // In C a name is all that a linker sees of a function.
            Body::Function { name, link }
                if !self.setting.headers.is_empty() && self.setting.language == Language::C =>
            {
                let plain = Setting { language: Language::C, flags: Vec::new(), headers: Vec::new() };
                vec![
                    Question { setting: self.setting.clone(), body: Body::Declared(name.clone()) },
                    Question { setting: plain, body: Body::Function { name: name.clone(), link: link.clone() } },
                ]
            }
            _ => Vec::new(),
        }
    }

    /// Tells whether the answer is read from the object.
    pub fn needs_object(&self) -> bool {
        matches!(self.body, Body::Value(_) | Body::Text(_))
    }

    /// The flags that name the libraries of a link.
    pub fn libraries(&self) -> Vec<&String> {
        match &self.body {
            Body::Links(flags) => flags.iter().filter(|flag| is_library(flag)).collect(),
            _ => Vec::new(),
        }
    }
}

fn is_library(flag: &str) -> bool {
    flag.starts_with("-l") && flag.len() > 2
}

/// The name under which errors tell the question with this number.
pub(super) fn mark(number: usize) -> String {
    format!("question-{number}")
}

/// The same for what is asked before its headers are read.
pub(super) fn mark_before(number: usize) -> String {
    format!("before-{number}")
}

/// The symbol that holds the answer to the question with this number.
pub(super) fn symbol(number: usize) -> String {
    format!("bolt_answer_{number}")
}

/// The name under which errors tell the headers that all questions of a run read.
pub(super) const HEADERS_MARK: &str = "headers";

/// The macro error that tells of a function that is there in name only.
pub(super) const STUB_WORDS: &str = "it always fails on this system";

/// Returns the program that asks these questions, all of one run.
pub(super) fn program(key: &RunKey, questions: &[&Question]) -> String {
    let mut text = String::new();
    let setting = match key {
        RunKey::Compile(setting)
        | RunKey::Object(setting)
        | RunKey::Code(setting, _)
        | RunKey::Functions(setting, _) => setting,
        RunKey::Links(..) | RunKey::Flags(_) | RunKey::LinkFlags(_) => {
            return "int main() { return 0; }\n".into();
        }
        RunKey::Chain(..) => return chain(questions),
    };
    // A question by itself needs no mark to be told by.
    let marked = questions.len() > 1;
    if !setting.headers.is_empty() {
        if marked {
            let _ = writeln!(text, "#line 1 \"{HEADERS_MARK}\"");
        }
        setting.headers.iter().for_each(|header| text.push_str(&format!("#include <{header}>\n")));
    } else if matches!(key, RunKey::Functions(..)) {
        text.push_str("#ifdef __has_include\n#if __has_include(<features.h>)\n#include <features.h>\n#endif\n#endif\n");
    }
    if questions.iter().any(|q| matches!(q.body, Body::Text(_))) {
        text.push_str("#define BOLT_WORDS(...) #__VA_ARGS__\n#define BOLT_TEXT(x) BOLT_WORDS(x)\n");
    }
    for (number, question) in questions.iter().enumerate() {
        if marked {
            let _ = writeln!(text, "#line 1 \"{}\"", mark(number));
        }
        fragment(&mut text, question, &symbol(number));
    }
    if matches!(key, RunKey::Functions(..)) {
        text.push_str("int main() { return 0; }\n");
    }
    text
}

/// Questions of equal headers stand together. Each is asked before its headers are read, where a "no" shows that it is these
/// headers that matter, and after.
fn chain(questions: &[&Question]) -> String {
    let mut text = String::new();
    let mut start = 0;
    while start < questions.len() {
        let headers = &questions[start].setting.headers;
        let end = start + questions[start..].iter().take_while(|question| question.setting.headers == *headers).count();
        for (number, question) in questions.iter().enumerate().take(end).skip(start) {
            if !matches!(question.body, Body::Readable(_)) {
                let _ = writeln!(text, "#line 1 \"{}\"", mark_before(number));
                fragment(&mut text, question, &format!("bolt_before_{number}"));
            }
        }
        let _ = writeln!(text, "#line 1 \"{HEADERS_MARK}\"");
        headers.iter().for_each(|header| text.push_str(&format!("#include <{header}>\n")));
        for (number, question) in questions.iter().enumerate().take(end).skip(start) {
            let _ = writeln!(text, "#line 1 \"{}\"", mark(number));
            fragment(&mut text, question, &symbol(number));
        }
        start = end;
    }
    text
}

/// The lines that ask one question. What can fail stands in a function of its own, so that a name that is not known is told each
/// time, and spoils nothing that follows.
fn fragment(text: &mut String, question: &Question, answer: &str) {
    let declared = |kind: &str, value: &str| format!("extern const {kind}; const {kind} = {value};\n");
    let within = |inner: &str| format!("static void {answer}(void) {{ {inner}; }}\n");
    let lines = match &question.body {
        Body::Readable(header) => format!("#include <{header}>\n"),
        Body::Lines(lines) => lines.replace(Probe::NAME, answer),
        Body::Value(expression) => declared(&format!("long long {answer}"), &format!("(long long) ({expression})")),
        Body::Holds { condition, .. } if question.setting.language == Language::Cxx => {
            within(&format!("static_assert({condition}, \"\")"))
        }
        // A field's width must be a constant, which an array's length within a function need not be.
        Body::Holds { condition, .. } => {
            within(&format!("(void) sizeof(struct {{ int bolt : ({condition}) ? 1 : -1; }})"))
        }
        Body::Declared(name) => format!("#ifndef {name}\n{}#endif\n", within(&format!("(void) &{name}"))),
        Body::Text(name) => declared(&format!("char {answer}[]"), &format!("BOLT_TEXT({name})")),
        Body::Code(code) => format!("{code}\n"),
        Body::Function { name, .. } => {
            let declare =
                if question.setting.headers.is_empty() { format!("extern char {name}();\n") } else { String::new() };
            format!(
                "#if defined __stub_{name} || defined __stub___{name}\n#error {STUB_WORDS}\n#endif\n#ifndef {name}\n{declare}void *{answer} = (void *) &{name};\n#endif\n"
            )
        }
        Body::Links(_) | Body::Flag(_) | Body::LinkFlag(_) => String::new(),
    };
    text.push_str(&lines);
}
