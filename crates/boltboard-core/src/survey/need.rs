//! One need that is looked for on the host: what can be looked up, and what is left to ask.

use std::path::{Path, PathBuf};

use super::compiler::{LibrarySearch, lies_below};
use super::judge::judge_version;
use super::program::{ProgramAnswer, ProgramQuestion, module_question, version_question};
use super::question::{Body, Question, Setting};
use super::{
    Copy, CopyRank, Evidence, Found, Language, Metadata, MetadataFault, Missing, Prober, read_metadata, search,
};
use crate::board::{NeedCheck, NeedDef, NeedId, Provider};
use crate::checks::{Ask, AskedIn, CheckLanguage, HostCheck, ScriptModule, Seen, ToolCheck};

/// A need after everything was looked up that can be, with what is left to ask.
pub(super) struct Draft<'a> {
    pub id: NeedId,
    pub check: &'a HostCheck,
    /// What is missing, if that is certain already.
    pub result: Result<(), Missing>,
    pub found: Found,
    pub evidence: Vec<Evidence>,
    pub copies: Vec<Copy>,
    /// For the compiler, in the order of judging.
    pub questions: Vec<Asked<'a>>,
    /// For other programs.
    pub programs: Vec<ProgramQuestion>,
}

/// A question of one need.
pub(super) struct Asked<'a> {
    pub question: Question,
    pub about: About<'a>,
}

/// What an answer says of a need.
#[derive(Clone, Copy)]
pub(super) enum About<'a> {
    /// Whether this header of its own can be read.
    Header(&'a str),
    /// Whether a program links with it.
    Linking,
    /// Its version, in this macro.
    Version(&'a str),
    /// What its definition asks.
    Ask(&'a Ask),
}

/// What programs said about one need.
#[derive(Default)]
pub(super) struct Look {
    pub answers: Vec<ProgramAnswer>,
    pub evidence: Vec<Evidence>,
}

impl<'a> Draft<'a> {
    /// Looks up what can be; `None` for a need that is made of others, or that the tree's own copy is to meet.
    pub fn of(id: NeedId, need: &'a NeedDef, provider: Option<&Provider>, prober: Prober<'_>) -> Option<Draft<'a>> {
        let NeedCheck::Host(check) = &need.check else { return None };
        let mut draft = Draft {
            id,
            check,
            result: Ok(()),
            found: Found::default(),
            evidence: Vec::new(),
            copies: Vec::new(),
            questions: Vec::new(),
            programs: Vec::new(),
        };
        if provider == Some(&Provider::Bundled) && need.bundled.is_some() {
            return Some(draft);
        }
        let folder = match provider {
            Some(Provider::Folder(folder)) => Some(folder.as_path()),
            _ => None,
        };
        draft.result = Lookup { draft: &mut draft, prober, folder, need }.all();
        Some(draft)
    }
}

impl Draft<'_> {
    /// Returns the language whose compiler has a say, if one has.
    pub fn compiler_asked(&self) -> Option<Language> {
        let check = self.check;
        let asked =
            check.library.is_some() || !check.headers.is_empty() || !check.link.is_empty() || !check.asks.is_empty();
        asked.then(|| language(check))
    }
}

struct Lookup<'a, 'b> {
    draft: &'a mut Draft<'b>,
    prober: Prober<'a>,
    /// The folder that holds the copy that a person wants.
    folder: Option<&'a Path>,
    need: &'a NeedDef,
}

impl Lookup<'_, '_> {
    /// Returns all files of that name below these folders, and takes note that the fact depends on those places.
    fn copies_of(&self, name: &str, folders: &[PathBuf]) -> Vec<PathBuf> {
        folders.iter().for_each(|folder| self.prober.memo.note(folder.join(name)));
        search::all_copies(name, folders)
    }

    fn note(&mut self, tried: impl Into<String>, found: impl Into<String>) {
        self.draft.evidence.push(Evidence { tried: tried.into(), found: found.into(), ..Evidence::default() });
    }

    fn all(&mut self) -> Result<(), Missing> {
        let check = self.draft.check;
        self.folder.iter().for_each(|folder| self.prober.memo.note(folder.to_path_buf()));
        if let Some(folder) = self.folder.filter(|folder| !folder.is_dir()) {
            return Err(Missing::Unusable { reason: format!("the folder {} is not there", folder.display()) });
        }
        self.looks(check)?;
        if let Some(tool) = &check.tool {
            self.tool(tool)?;
        }
        if let Some(module) = &check.script_module {
            self.script_module(module)?;
        }
        let known = match &check.library {
            Some(library) => self.library(library)?,
            None => false,
        };
        if !known && check.library.is_some() && check.headers.is_empty() && check.link.is_empty() {
            return Err(Missing::Absent);
        }
        if !known {
            self.plain_flags(check);
        }
        self.headers(check)?;
        if known || !check.link.is_empty() {
            self.libraries()?;
        }
        self.ask(known);
        Ok(())
    }

    /// Looks for the libraries of the link where it is known that the linker looks nowhere else.
    fn libraries(&mut self) -> Result<(), Missing> {
        let Ok(compiler) = self.prober.compiler(self.language()) else { return Ok(()) };
        if compiler.library_search != LibrarySearch::Known {
            return Ok(());
        }
        let flags = self.draft.found.link_flags.clone();
        let own = flags.iter().filter_map(|flag| flag.strip_prefix("-L")).map(PathBuf::from);
        let folders: Vec<PathBuf> = own.chain(compiler.library_folders.iter().cloned()).collect();
        for name in flags.iter().filter_map(|flag| flag.strip_prefix("-l")).filter(|name| !name.starts_with(':')) {
            let places = search::library_places(name, &folders);
            places.iter().for_each(|place| self.prober.memo.note(place.clone()));
            if places.last().is_some_and(|place| place.is_file()) {
                continue;
            }
            let shown: Vec<String> = folders.iter().map(|folder| folder.display().to_string()).collect();
            self.note(format!("the library lib{name}.so or lib{name}.a in {}", shown.join(", ")), "not found");
            let reason = format!("its library {name} was not found: no lib{name}.so and no lib{name}.a");
            return Err(if self.draft.found.place.is_some() { Missing::Unusable { reason } } else { Missing::Absent });
        }
        Ok(())
    }

    fn looks(&mut self, check: &HostCheck) -> Result<(), Missing> {
        for look in &check.looks {
            self.prober.memo.note(look.place().to_path_buf());
            match look.see() {
                Seen::There => self.note(look.title(), "there"),
                Seen::Nothing => {
                    self.note(look.title(), "not found");
                    return Err(Missing::Absent);
                }
                Seen::Other(what) => {
                    self.note(look.title(), format!("there, and {what}"));
                    let reason = format!("{} is {what}", look.place().display());
                    return Err(Missing::Unusable { reason });
                }
            }
            self.draft.found.place.get_or_insert_with(|| look.place().to_path_buf());
        }
        Ok(())
    }

    fn tool(&mut self, tool: &ToolCheck) -> Result<(), Missing> {
        let path = &self.prober.host.search_path;
        let usual: Vec<PathBuf> = path.split(':').filter(|f| !f.is_empty()).map(PathBuf::from).collect();
        let folders =
            self.folder.map_or_else(|| usual.clone(), |folder| vec![folder.join("bin"), folder.to_path_buf()]);
        for name in &tool.names {
            let runs = |path: &PathBuf| is_program(path);
            let first: Vec<PathBuf> = self.copies_of(name, &folders).into_iter().filter(runs).collect();
            let shown: Vec<String> = folders.iter().map(|f| f.display().to_string()).collect();
            let tried = format!("the program `{name}` in {}", shown.join(":"));
            let Some(found) = first.first() else {
                self.note(tried, "not found");
                continue;
            };
            self.note(tried, found.display().to_string());
            let others = self.copies_of(name, &usual).into_iter().filter(runs);
            let all = first.iter().cloned().chain(others);
            self.take_copies(all.map(|place| (place, None)).collect(), vec![]);
            self.draft.found.place.get_or_insert_with(|| found.clone());
            if self.need.version.is_some() {
                self.runnable(found)?;
                self.draft.programs.push(version_question(found, tool));
            }
            return Ok(());
        }
        Err(Missing::Absent)
    }

    fn script_module(&mut self, module: &ScriptModule) -> Result<(), Missing> {
        let path = &self.prober.host.search_path;
        let tried = format!("the program `{}` in {path}", module.program);
        let places: Vec<PathBuf> = path.split(':').map(PathBuf::from).collect();
        self.copies_of(&module.program, &places);
        match crate::launch::find_program(&module.program, path, Path::new("/")) {
            Some(program) => {
                self.note(tried, program.display().to_string());
                self.draft.programs.push(module_question(&program, module.language, &module.name));
                Ok(())
            }
            None => {
                self.note(tried, "not found");
                Err(Missing::Absent)
            }
        }
    }

    /// Looking at a tree runs nothing of it, whatever its definitions and profiles say.
    fn runnable(&self, program: &Path) -> Result<(), Missing> {
        // What the search path finds, the person has put there; a folder can come from a profile of the tree.
        if self.folder.is_none() || !lies_below(program, &self.prober.host.never_below) {
            return Ok(());
        }
        let reason = format!("{} is inside the tree, and a survey runs no program of the tree", program.display());
        Err(Missing::Unusable { reason })
    }

    /// Returns whether the metadata file is there; without one, header and link can still answer.
    fn library(&mut self, library: &str) -> Result<bool, Missing> {
        let usual = self.prober.host.metadata_folders.clone();
        let own = self.folder.map_or_else(Vec::new, |folder| search::metadata_below(folder, self.target()));
        let searched = if self.folder.is_some() { own.clone() } else { usual.clone() };
        let shown: Vec<String> = searched.iter().map(|f| f.display().to_string()).collect();
        let tried = format!("the metadata file {library}.pc in {}", shown.join(", "));
        let file_name = format!("{library}.pc");
        let first = self.copies_of(&file_name, &searched);
        self.prober.memo.note(self.prober.host.aside.clone());
        let aside = search::aside(&self.prober.host.aside);
        let aside: Vec<PathBuf> =
            aside.iter().flat_map(|folder| search::metadata_below(folder, self.target())).collect();
        let known: Vec<PathBuf> = first.iter().cloned().chain(self.copies_of(&file_name, &usual)).collect();
        let with_version = |place: PathBuf| (place.clone(), Metadata::version_of(&place));
        let later = self.copies_of(&file_name, &aside).into_iter().map(with_version).collect();
        self.take_copies(known.into_iter().map(with_version).collect(), later);
        if first.is_empty() {
            self.note(tried, "not found");
            return Ok(false);
        }
        let folders = own.into_iter().chain(usual).collect();
        match read_metadata(library, folders, self.draft.check.linkage, self.language(), self.prober) {
            Ok(metadata) => {
                self.note(tried, format!("{}, version {}", metadata.file.display(), metadata.version));
                self.draft.found.place = Some(metadata.file);
                self.draft.found.version = Some(metadata.version.clone()).filter(|version| !version.is_empty());
                self.draft.found.compile_flags = metadata.compile_flags;
                self.draft.found.link_flags = metadata.link_flags;
                self.run_path();
                judge_version(self.need, self.draft.found.version.as_deref())?;
                Ok(true)
            }
            Err(fault @ MetadataFault::Absent(_)) => {
                self.note(tried, fault.to_string());
                Ok(false)
            }
            Err(fault) => {
                self.note(tried, fault.to_string());
                Err(Missing::Unusable { reason: fault.to_string() })
            }
        }
    }

    /// Flags of a library that says nothing of itself.
    fn plain_flags(&mut self, check: &HostCheck) {
        let below = self.folder.map(|folder| (folder, search::library_folders_below(folder, self.target())));
        let found = &mut self.draft.found;
        if let Some((folder, libraries)) = below {
            found.compile_flags = vec![format!("-I{}", folder.join("include").display())];
            let there = libraries.iter().filter(|folder| folder.is_dir());
            found.link_flags = there.map(|folder| format!("-L{}", folder.display())).collect();
        }
        found.link_flags.extend(check.link.iter().map(|name| format!("-l{name}")));
        self.run_path();
    }

    /// A program that uses a copy from a folder must find it again when it runs.
    fn run_path(&mut self) {
        let Some(folder) = self.folder else { return };
        let libraries = search::library_folders_below(folder, self.target());
        let there = libraries.into_iter().filter(|folder| folder.is_dir());
        self.draft.found.link_flags.extend(there.map(|folder| format!("-Wl,-rpath,{}", folder.display())));
    }

    fn headers(&mut self, check: &HostCheck) -> Result<(), Missing> {
        let by_itself = self.prober.compiler(self.language()).map(|c| c.include_folders.clone()).unwrap_or_default();
        if self.prober.compiler(self.language()).is_err() && !check.headers.is_empty() {
            return Err(Missing::NotAsked);
        }
        for header in &check.headers {
            let flags = &self.draft.found.compile_flags;
            let folders = search::header_folders(flags, &by_itself);
            let shown: Vec<String> = folders.iter().map(|f| f.display().to_string()).collect();
            let tried = format!("the header <{header}> in {}", shown.join(", "));
            let copies = self.copies_of(header, &folders);
            let Some(place) = copies.first().cloned() else {
                if by_itself.is_empty() {
                    // A compiler that does not say where it looks is asked for the header itself.
                    continue;
                }
                self.note(tried, "not found");
                return Err(match (&self.draft.found.place, self.folder) {
                    (Some(_), _) => Missing::Unusable { reason: format!("its header <{header}> was not found") },
                    (None, Some(folder)) => {
                        Missing::Unusable { reason: format!("{} has no header <{header}>", folder.display()) }
                    }
                    (None, None) => Missing::Absent,
                });
            };
            self.note(tried, place.display().to_string());
            // Those before the last are there so that it can be read; they say nothing of the need.
            if self.draft.found.place.is_none() && Some(header) == check.headers.last() {
                self.take_copies(copies.into_iter().map(|place| (place, None)).collect(), vec![]);
                self.draft.found.place = Some(place);
            }
        }
        Ok(())
    }

    fn ask(&mut self, known: bool) {
        let check = self.draft.check;
        let mut flags = self.draft.found.compile_flags.clone();
        flags.extend(check.defines.iter().map(|define| format!("-D{define}")));
        let language = self.language();
        let setting = Setting { language, flags, headers: check.headers.clone() };
        let plain = |headers: Vec<String>| Setting { language, flags: Vec::new(), headers };
        let link = self.draft.found.link_flags.clone();
        let questions = &mut self.draft.questions;
        let mut add = |setting, body, about| questions.push(Asked { question: Question { setting, body }, about });
        // Several headers are read in their order, because one may need another; a single one can share a run.
        if let Some((last, before)) = check.headers.split_last() {
            let before = Setting { headers: before.to_vec(), ..setting.clone() };
            add(before, Body::Readable(last.clone()), About::Header(last));
        }
        if known || !check.link.is_empty() {
            add(plain(Vec::new()), Body::Links(link.clone()), About::Linking);
        }
        for ask in &check.asks {
            let within = match &ask.within {
                AskedIn::Need => setting.clone(),
                AskedIn::Nothing => plain(Vec::new()),
                AskedIn::Own(header) => plain(vec![header.clone()]),
            };
            add(within, Body::of(&ask.probe, &link), About::Ask(ask));
        }
        if let Some(name) = &check.version_macro {
            add(setting, Body::Text(name.clone()), About::Version(name));
        }
    }

    fn take_copies(&mut self, known: Vec<(PathBuf, Option<String>)>, aside: Vec<(PathBuf, Option<String>)>) {
        if !self.draft.copies.is_empty() {
            return;
        }
        let mut real = Vec::new();
        let ranked = known
            .into_iter()
            .map(|copy| (copy, CopyRank::Later))
            .chain(aside.into_iter().map(|copy| (copy, CopyRank::Aside)));
        for ((place, version), rank) in ranked {
            let same = place.canonicalize().unwrap_or_else(|_| place.clone());
            if !real.contains(&same) {
                real.push(same);
                let first = self.draft.copies.is_empty() && rank == CopyRank::Later;
                let rank = if first { CopyRank::InUse } else { rank };
                self.draft.copies.push(Copy { place, version, rank });
            }
        }
    }

    fn language(&self) -> Language {
        language(self.draft.check)
    }

    fn target(&self) -> &str {
        self.prober.compiler(self.language()).map_or("", |compiler| compiler.target.as_str())
    }
}

fn language(check: &HostCheck) -> Language {
    match check.language {
        CheckLanguage::C => Language::C,
        CheckLanguage::Cxx => Language::Cxx,
    }
}

fn is_program(path: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    std::fs::metadata(path).is_ok_and(|status| status.is_file() && status.permissions().mode() & 0o111 != 0)
}
