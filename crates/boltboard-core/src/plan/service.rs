//! The files of the system's service manager, filled in from resolved values.
//!
//! Their forms are those that the manager documents: units (`systemd.service(5)`, `systemd.syntax(7)`), users
//! (`sysusers.d(5)`) and folders (`tmpfiles.d(5)`).

use std::path::{Path, PathBuf};

use super::fill::{Fill, main_output};
use super::lower::PlanInput;
use crate::board::{Interp, PartId, ServiceAgain, ServiceDef, ServiceFile, ServiceReady, Tree, When};

/// The first port that any user may listen on, where the system does not say otherwise.
const FIRST_FREE_PORT: u16 = 1024;
/// The longest name of a user that all programs take.
const LONGEST_USER: usize = 31;

/// How a port is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protocol {
    /// By connections.
    Tcp,
    /// By single messages.
    Udp,
}

/// A port that a service listens on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Port {
    /// How it is reached.
    pub protocol: Protocol,
    /// Its number.
    pub number: u16,
}

impl std::fmt::Display for Port {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.protocol {
            Protocol::Tcp => write!(f, "{}", self.number),
            Protocol::Udp => write!(f, "udp:{}", self.number),
        }
    }
}

/// A service with the values of now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServiceNow {
    /// Its name.
    pub name: String,
    /// Its program, where it is installed.
    pub program: PathBuf,
    /// What the program is called with.
    pub arguments: Vec<String>,
    /// Variables of its environment.
    pub environment: Vec<(String, String)>,
    /// The user that it runs as.
    pub user: Option<String>,
    /// Its folders, with their permission bits.
    pub folders: Vec<(PathBuf, u32)>,
    /// The ports that it listens on.
    pub ports: Vec<Port>,
    /// Files that must be there.
    pub files: Vec<PathBuf>,
}

impl PlanInput<'_> {
    /// Where a program is installed, if it is.
    pub fn installed_program(&self, part: PartId) -> Option<PathBuf> {
        let program = &self.board.parts[part];
        let rule = program.install.as_ref()?;
        let name = rule.name.clone().unwrap_or_else(|| main_output(program).name().to_string());
        Some(Path::new(&self.text(&rule.to)).join(name))
    }

    /// Fills in what holds of a list of texts; a text that is nothing but a list of words becomes several.
    pub fn filled(&self, list: &[When<Interp>]) -> Vec<String> {
        let words = |interp| self.words(interp, Fill::default()).into_iter().map(|word| word.neutral(&[]));
        self.held(list).into_iter().flat_map(words).collect()
    }

    /// Fills a service in.
    ///
    /// # Errors
    /// Says which of its values is none that a service can have.
    pub fn service(&self, def: &ServiceDef) -> Result<ServiceNow, String> {
        let one = |interp: &Interp| one_line(self.text(interp));
        let program = self.installed_program(def.program);
        let program = program.ok_or_else(|| format!("`{}` is not installed", self.board.parts[def.program].name))?;
        let arguments = self.filled(&def.arguments).into_iter().map(one_line).collect::<Result<_, _>>()?;
        let user = def.user.as_ref().map(one).transpose()?.map(user).transpose()?;
        let folder = |folder: &crate::board::ServiceFolder| Ok((absolute(&one(&folder.path)?)?, folder.mode));
        Ok(ServiceNow {
            name: def.name.clone(),
            program: absolute(&program.to_string_lossy())?,
            arguments,
            environment: def
                .environment
                .iter()
                .map(|(name, value)| Ok((name.clone(), one(value)?)))
                .collect::<Result<_, String>>()?,
            user,
            folders: self.held(&def.folders).into_iter().map(folder).collect::<Result<_, String>>()?,
            ports: self.held(&def.listens).into_iter().map(|text| port(&one(text)?)).collect::<Result<_, String>>()?,
            files: self
                .held(&def.files)
                .into_iter()
                .map(|text| absolute(&one(text)?))
                .collect::<Result<_, String>>()?,
        })
    }
}

fn one_line(text: String) -> Result<String, String> {
    if text.chars().any(char::is_control) { Err(format!("{text:?} has more than one line")) } else { Ok(text) }
}

fn absolute(text: &str) -> Result<PathBuf, String> {
    let path = Path::new(text);
    let is_plain = path.components().all(|step| step != std::path::Component::ParentDir);
    if path.is_absolute() && is_plain { Ok(path.to_path_buf()) } else { Err(format!("`{text}` is no absolute path")) }
}

fn user(text: String) -> Result<String, String> {
    let first = |c: char| c.is_ascii_lowercase() || c == '_';
    let rest = |c: char| first(c) || c.is_ascii_digit() || c == '-';
    let is_name = text.starts_with(first) && text.chars().all(rest) && text.len() <= LONGEST_USER;
    if is_name { Ok(text) } else { Err(format!("`{text}` cannot be the name of a user")) }
}

fn port(text: &str) -> Result<Port, String> {
    let (protocol, number) = match text.split_once(':') {
        Some(("udp", number)) => (Protocol::Udp, number),
        Some(("tcp", number)) => (Protocol::Tcp, number),
        _ => (Protocol::Tcp, text),
    };
    match number.parse() {
        Ok(number) if number > 0 => Ok(Port { protocol, number }),
        _ => Err(format!("`{text}` is no port: a number up to 65535, or `udp:` and a number")),
    }
}

/// The text of one of its files.
pub(super) fn service_text(tree: &Tree, def: &ServiceDef, now: &ServiceNow, file: ServiceFile) -> String {
    let head = format!("# Made by {} {} from the values that it was built with.\n", tree.name, tree.version);
    head + &match file {
        ServiceFile::Unit => unit(def, now),
        ServiceFile::User => {
            let home =
                now.folders.first().map_or("-".to_string(), |(folder, _)| quoted(&folder.to_string_lossy(), false));
            let user = now.user.as_deref().unwrap_or_default();
            format!("u {user} - {} {home}\n", quoted(&def.summary, false))
        }
        ServiceFile::Folders => {
            let owner = now.user.as_deref().unwrap_or("root");
            let line = |(folder, mode): &(PathBuf, u32)| {
                format!("d {} {mode:04o} {owner} {owner} -\n", quoted(&folder.to_string_lossy(), false))
            };
            now.folders.iter().map(line).collect()
        }
    }
}

fn unit(def: &ServiceDef, now: &ServiceNow) -> String {
    let mut text = format!("[Unit]\nDescription={}\n", def.summary.replace('%', "%%"));
    if !now.ports.is_empty() {
        text += "After=network.target\n";
    }
    let kind = match def.ready {
        ServiceReady::Runs => "exec",
        ServiceReady::Tells => "notify",
        ServiceReady::Ended => "oneshot",
    };
    text += &format!("\n[Service]\nType={kind}\nExecStart={}", quoted(&now.program.to_string_lossy(), true));
    now.arguments.iter().for_each(|word| text += &format!(" {}", quoted(word, true)));
    text.push('\n');
    for (name, value) in &now.environment {
        text += &format!("Environment={}\n", quoted(&format!("{name}={value}"), false));
    }
    if let Some(user) = &now.user {
        text += &format!("User={user}\n");
        // What only the administrator may listen on is handed to the user.
        if now.ports.iter().any(|port| port.number < FIRST_FREE_PORT) {
            text += "AmbientCapabilities=CAP_NET_BIND_SERVICE\n";
        }
    }
    let again = match def.again {
        ServiceAgain::Failed => "on-failure",
        ServiceAgain::Always => "always",
        ServiceAgain::Never => "no",
    };
    text += &format!("Restart={again}\n\n[Install]\nWantedBy=multi-user.target\n");
    text
}

/// A word as these files write it. Where a command is written, `$` stands for a variable and a `;` alone for its end.
fn quoted(word: &str, in_command: bool) -> String {
    let mut text = String::new();
    for c in word.chars() {
        match c {
            '%' => text += "%%",
            '$' if in_command => text += "$$",
            '"' => text += "\\\"",
            '\\' => text += "\\\\",
            _ => text.push(c),
        }
    }
    let plain = |c: char| c.is_alphanumeric() || "-_./:=,+@%$".contains(c);
    match word {
        ";" if in_command => "\\;".to_string(),
        _ if !word.is_empty() && word.chars().all(plain) => text,
        _ => format!("\"{text}\""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_written_so_that_the_manager_reads_them_back() {
        for (word, written) in [
            ("plain", "plain"),
            ("--port=8080", "--port=8080"),
            ("two words", "\"two words\""),
            ("", "\"\""),
            ("50%", "50%%"),
            ("$HOME", "$$HOME"),
            ("a\"b\\c", "\"a\\\"b\\\\c\""),
            (";", "\\;"),
            ("'", "\"'\""),
        ] {
            assert_eq!(quoted(word, true), written, "{word}");
        }
        assert_eq!(quoted("A=$b c", false), "\"A=$b c\"");
    }

    #[test]
    fn ports_users_and_folders_are_checked() {
        assert_eq!(port("8080"), Ok(Port { protocol: Protocol::Tcp, number: 8080 }));
        assert_eq!(port("udp:53"), Ok(Port { protocol: Protocol::Udp, number: 53 }));
        for wrong in ["", "0", "65536", "http", "sctp:1", "-1"] {
            assert!(port(wrong).is_err(), "{wrong}");
        }
        for (name, right) in
            [("skerry", true), ("_s-1", true), ("Skerry", false), ("a b", false), ("", false), ("0a", false)]
        {
            assert_eq!(user(name.to_string()).is_ok(), right, "{name}");
        }
        assert!(user("a".repeat(32)).is_err() && absolute("x/y").is_err() && absolute("/x/../y").is_err());
        assert!(one_line("a\nb".to_string()).is_err());
    }
}
