//! The plain check of one need: metadata file, header, link, tool.

use std::path::Path;
use std::time::Duration;

use super::{Compiler, Evidence, Fact, FactState, Found, Host, Metadata, MetadataFault, Missing};
use crate::base::Version;
use crate::board::{NeedDef, NeedId};
use crate::launch::{Exit, Job, Launch, find_program};

/// Looks for one need.
pub(super) fn need(id: NeedId, need: &NeedDef, host: &Host, compiler: Option<&Compiler>, launch: &dyn Launch) -> Fact {
    let mut check = Check { host, compiler, launch, name: &need.name, evidence: Vec::new(), found: Found::default() };
    let result = check.all(need);
    let state = match (result, need.bundled) {
        (Ok(()), _) => FactState::Found(check.found),
        (Err(_), Some(part)) => FactState::Bundled(part),
        (Err(missing), None) => FactState::Missing(missing),
    };
    Fact { need: id, state, evidence: check.evidence }
}

struct Check<'a> {
    host: &'a Host,
    compiler: Option<&'a Compiler>,
    launch: &'a dyn Launch,
    name: &'a str,
    evidence: Vec<Evidence>,
    found: Found,
}

impl Check<'_> {
    fn note(&mut self, tried: impl Into<String>, found: impl Into<String>) {
        self.evidence.push(Evidence { tried: tried.into(), found: found.into() });
    }

    fn all(&mut self, need: &NeedDef) -> Result<(), Missing> {
        if let Some(tool) = &need.check.tool {
            self.tool(tool)?;
        }
        let mut known = false;
        if let Some(library) = &need.check.library {
            known = self.library(library, need)?;
        }
        if let Some(header) = &need.check.header {
            self.header(header)?;
        }
        if !known && need.check.library.is_some() && need.check.header.is_none() && need.check.link.is_empty() {
            return Err(Missing::Absent);
        }
        if !known && need.check.library.is_some() && need.version.is_some() {
            let reason = "its version cannot be told without its metadata file".to_string();
            return Err(Missing::Unusable { reason });
        }
        if !need.check.link.is_empty() || known {
            self.links(need)?;
        }
        Ok(())
    }

    fn tool(&mut self, tool: &str) -> Result<(), Missing> {
        let tried = format!("the program `{tool}` in {}", self.host.search_path);
        match find_program(tool, &self.host.search_path, Path::new("/")) {
            Some(path) => {
                self.note(tried, path.display().to_string());
                Ok(())
            }
            None => {
                self.note(tried, "not there");
                Err(Missing::Absent)
            }
        }
    }

    /// Returns whether the metadata file is there; without one, header and link can still answer.
    fn library(&mut self, library: &str, need: &NeedDef) -> Result<bool, Missing> {
        let folders: Vec<String> = self.host.metadata_folders.iter().map(|f| f.display().to_string()).collect();
        let tried = format!("the metadata file {library}.pc in {}", folders.join(", "));
        match Metadata::read(library, &self.host.metadata_folders) {
            Ok(metadata) => {
                self.note(tried, format!("{}, version {}", metadata.file.display(), metadata.version));
                let version = metadata.version.clone();
                self.found = Found {
                    version: Some(version.clone()),
                    compile_flags: metadata.compile_flags,
                    link_flags: metadata.link_flags,
                };
                match &need.version {
                    Some(range) if !range.holds(&Version::new(&version)) => {
                        Err(Missing::WrongVersion { found: version })
                    }
                    _ => Ok(true),
                }
            }
            Err(MetadataFault::Absent(_)) => {
                self.note(tried, "not there");
                Ok(false)
            }
            Err(fault) => {
                self.note(tried, fault.to_string());
                Err(Missing::Unusable { reason: fault.to_string() })
            }
        }
    }

    fn header(&mut self, header: &str) -> Result<(), Missing> {
        let own = self.found.compile_flags.iter().filter_map(|flag| flag.strip_prefix("-I")).map(Path::new);
        let by_itself = self.compiler.into_iter().flat_map(|c| c.include_folders.iter().map(|f| f.as_path()));
        let folders: Vec<&Path> = own.chain(by_itself).collect();
        let shown: Vec<String> = folders.iter().map(|f| f.display().to_string()).collect();
        let tried = format!("the header <{header}> in {}", shown.join(", "));
        match folders.iter().map(|f| f.join(header)).find(|path| path.is_file()) {
            Some(path) => {
                self.note(tried, path.display().to_string());
                Ok(())
            }
            None => {
                self.note(tried, "not there");
                match self.found.version {
                    Some(_) => Err(Missing::Unusable { reason: format!("its header <{header}> is not there") }),
                    None => Err(Missing::Absent),
                }
            }
        }
    }

    fn links(&mut self, need: &NeedDef) -> Result<(), Missing> {
        let Some(compiler) = self.compiler else {
            return Err(Missing::Unusable { reason: "there is no compiler to try it with".into() });
        };
        if self.found.link_flags.is_empty() {
            self.found.link_flags = need.check.link.iter().map(|name| format!("-l{name}")).collect();
        }
        let include = need.check.header.as_ref().map_or(String::new(), |header| format!("#include <{header}>\n"));
        let program = format!("{include}int main(void) {{ return 0; }}\n");
        let source = self.host.scratch.join(format!("{}.c", self.name));
        let result = self.host.scratch.join(format!("{}.out", self.name));
        if let Err(e) = std::fs::write(&source, &program) {
            return Err(Missing::Unusable { reason: format!("cannot write {}: {e}", source.display()) });
        }
        let mut arguments = self.found.compile_flags.clone();
        arguments.extend([source.display().to_string(), "-o".into(), result.display().to_string()]);
        arguments.extend(self.found.link_flags.clone());
        let job = Job {
            program: compiler.path.clone(),
            arguments,
            folder: self.host.scratch.clone(),
            environment: [
                ("PATH".to_string(), self.host.search_path.clone()),
                ("LC_ALL".into(), "C".into()),
                ("TMPDIR".into(), self.host.scratch.display().to_string()),
            ]
            .into(),
            limit: Some(Duration::from_secs(60)),
        };
        let tried = format!("{} {}", job.program.display(), job.arguments.join(" "));
        let (done, said) = match self.launch.run(&job) {
            Ok(outcome) => (outcome.exit == Exit::Code(0), outcome.stderr_text()),
            Err(e) => (false, e.source.to_string()),
        };
        let said = said.replace(&format!("{}/", self.host.scratch.display()), "");
        let first = said.lines().find(|l| l.contains("error") || l.contains("cannot")).or(said.lines().next());
        let first = first.unwrap_or(if done { "links" } else { "failed without a word" }).trim().to_string();
        self.note(tried.replace(&format!("{}/", self.host.scratch.display()), ""), first.clone());
        if done { Ok(()) } else { Err(Missing::Unusable { reason: first }) }
    }
}
