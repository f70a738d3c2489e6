//! The plain check of one need: metadata file, header, link, tool.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::{Evidence, Fact, FactState, Found, Metadata, MetadataFault, Missing, Prober};
use crate::base::{Digest, Version};
use crate::board::{NeedDef, NeedId};
use crate::launch::{Exit, Job, find_program};

/// Looks for one need.
pub(super) fn need(id: NeedId, need: &NeedDef, prober: Prober<'_>) -> Fact {
    let mut check = Check { prober, name: &need.name, evidence: Vec::new(), found: Found::default(), header: None };
    let result = check.all(need);
    let state = match (result, need.bundled) {
        (Ok(()), _) => FactState::Found(check.found),
        (Err(_), Some(part)) => FactState::Bundled(part),
        (Err(missing), None) => FactState::Missing(missing),
    };
    Fact { need: id, state, evidence: check.evidence }
}

struct Check<'a> {
    prober: Prober<'a>,
    name: &'a str,
    evidence: Vec<Evidence>,
    found: Found,
    /// The header that was found.
    header: Option<PathBuf>,
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
        let tried = format!("the program `{tool}` in {}", self.prober.host.search_path);
        match find_program(tool, &self.prober.host.search_path, Path::new("/")) {
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
        let folders: Vec<String> = self.prober.host.metadata_folders.iter().map(|f| f.display().to_string()).collect();
        let tried = format!("the metadata file {library}.pc in {}", folders.join(", "));
        match Metadata::read(library, &self.prober.host.metadata_folders) {
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
        let by_itself = self.prober.compiler.into_iter().flat_map(|c| c.include_folders.iter().map(|f| f.as_path()));
        let folders: Vec<&Path> = own.chain(by_itself).collect();
        let shown: Vec<String> = folders.iter().map(|f| f.display().to_string()).collect();
        let tried = format!("the header <{header}> in {}", shown.join(", "));
        match folders.iter().map(|f| f.join(header)).find(|path| path.is_file()) {
            Some(path) => {
                self.note(tried, path.display().to_string());
                self.header = Some(path);
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
        let Some(compiler) = self.prober.compiler else {
            return Err(Missing::Unusable { reason: "there is no compiler to try it with".into() });
        };
        if self.found.link_flags.is_empty() {
            self.found.link_flags = need.check.link.iter().map(|name| format!("-l{name}")).collect();
        }
        let include = need.check.header.as_ref().map_or(String::new(), |header| format!("#include <{header}>\n"));
        let program = format!("{include}int main(void) {{ return 0; }}\n");
        let source = self.prober.host.scratch.join(format!("{}.c", self.name));
        let result = self.prober.host.scratch.join(format!("{}.out", self.name));
        if let Err(e) = std::fs::write(&source, &program) {
            return Err(Missing::Unusable { reason: format!("cannot write {}: {e}", source.display()) });
        }
        let mut arguments = self.found.compile_flags.clone();
        arguments.extend([source.display().to_string(), "-o".into(), result.display().to_string()]);
        arguments.extend(self.found.link_flags.clone());
        let here = format!("{}/", self.prober.host.scratch.display());
        let tried = format!("{} {}", compiler.path.display(), arguments.join(" ")).replace(&here, "");
        let question = Digest::of_parts([compiler.identity.to_string().as_str(), &tried, &program]);
        if let Some(answer) = self.prober.memo.recall(&question) {
            self.note(tried, answer);
            return Ok(());
        }
        // The linker names every file that it reads, so that a later change of one of them is noticed.
        arguments.push("-Wl,-t".into());
        let job = Job {
            program: compiler.path.clone(),
            arguments,
            folder: self.prober.host.scratch.clone(),
            environment: [
                ("PATH".to_string(), self.prober.host.search_path.clone()),
                ("LC_ALL".into(), "C".into()),
                ("TMPDIR".into(), self.prober.host.scratch.display().to_string()),
            ]
            .into(),
            limit: Some(Duration::from_secs(60)),
        };
        let (done, said, read) = match self.prober.launch.run(&job) {
            Ok(outcome) => (outcome.exit == Exit::Code(0), outcome.stderr_text(), outcome.stdout_text()),
            Err(e) => (false, e.source.to_string(), String::new()),
        };
        let said = said.replace(&here, "");
        let first = said.lines().find(|l| l.contains("error") || l.contains("cannot")).or(said.lines().next());
        let first = first.unwrap_or(if done { "links" } else { "failed without a word" }).trim().to_string();
        self.note(tried, first.clone());
        if !done {
            return Err(Missing::Unusable { reason: first });
        }
        let files = read.lines().map(|line| PathBuf::from(line.trim())).filter(|path| path.is_absolute());
        let depends = files.chain(self.header.take()).filter(|path| !path.starts_with(&self.prober.host.scratch));
        self.prober.memo.keep(question, &first, depends.collect::<Vec<_>>());
        Ok(())
    }
}
