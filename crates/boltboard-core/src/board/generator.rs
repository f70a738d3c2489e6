//! How generated parts come about: commands, templates, files that only go through a part of the compiler, tables of modules.

use super::Condition;
use super::interp::{Interp, Piece};
use super::kit::KitDef;
use super::metadata::MetadataDef;
use super::part::{PartId, When};
use super::service::{ServiceDef, ServiceFile};
use crate::base::{Glob, RelPath};

/// How a generated part comes about.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum Generator {
    /// Commands of the tree's own.
    Command(Box<CommandDef>),
    /// A file of the tree with placeholders filled in.
    Template {
        /// The file.
        from: SourceFile,
        /// The mark before and after a placeholder's name, `@` unless told otherwise.
        mark: char,
        /// The result, below the folder of generated files.
        to: RelPath,
    },
    /// A source that goes through the first phases of the compiler only.
    Phase {
        /// The source.
        from: SourceFile,
        /// How far it goes.
        until: Phase,
        /// The result, below the folder of generated files.
        to: RelPath,
    },
    /// The table of modules that are built into a program.
    ModuleTable(ModuleTable),
    /// A header by which a program can tell its record.
    Record(RecordHeader),
    /// The metadata file of libraries.
    Metadata {
        /// What it tells.
        of: Box<MetadataDef>,
        /// The result, below the folder of generated files.
        to: RelPath,
    },
    /// The kit of the tree; its file stands for all of it.
    Kit(Box<KitDef>),
    /// Headers that a kit has.
    Given {
        /// The headers, below the folder of generated files.
        files: Vec<RelPath>,
    },
    /// A file for the system's service manager.
    Service {
        /// The service.
        service: Box<ServiceDef>,
        /// Which of its files.
        file: ServiceFile,
        /// The result, below the folder of generated files.
        to: RelPath,
    },
}

/// How a program comes to the text of a record.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum RecordForm {
    /// A function of this name reads it from the program's own file when it runs.
    Function(String),
    /// A macro of this name is the text; what names it is compiled again when anything is chosen otherwise.
    Macro {
        /// Its name.
        name: String,
        /// The part whose record it is.
        of: PartId,
    },
}

/// A generated header by which a program can tell its record.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct RecordHeader {
    /// How a program comes to the text.
    pub form: RecordForm,
    /// The file, below the folder of generated files.
    pub to: RelPath,
}

/// A file that a step reads.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum SourceFile {
    /// A file of the tree.
    Tree(RelPath),
    /// The file that a part makes.
    Part(PartId),
    /// A file that lies beside the definitions, below the folder of the root one.
    Beside(RelPath),
}

/// How far a source goes through the compiler.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Phase {
    /// To its text after preprocessing, without marks of lines.
    Preprocessed,
    /// To assembly.
    Assembly,
}

/// Commands of the tree's own, of which each reads what the one before it writes.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct CommandDef {
    /// The commands, each a program with its arguments; at least one.
    pub stages: Vec<Vec<When<Interp>>>,
    /// Where they run.
    pub work_place: WorkPlace,
    /// What they read of the sources.
    pub reads: Vec<Glob>,
    /// What the first of them reads as its standard input.
    pub input: Option<SourceFile>,
    /// What they write, below the folder of generated files.
    pub writes: Vec<Written>,
    /// Variables of their environment.
    pub environment: Vec<(String, Variable)>,
    /// Exit codes that mean success.
    pub success: Vec<i32>,
}

/// Where commands run.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum WorkPlace {
    /// In a folder of the sources.
    Folder(RelPath),
    /// In an empty folder of their own, in which these files lie under these names.
    Scratch(Vec<(RelPath, SourceFile)>),
}

/// A file that commands write.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Written {
    /// The file, below the folder of generated files.
    pub to: RelPath,
    /// How it comes about.
    pub from: WrittenFrom,
}

/// How a file that commands write comes about.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum WrittenFrom {
    /// They are told where to write it.
    Told,
    /// It is what the last of them writes to its standard output.
    Output,
    /// They leave it under this name in the folder of their own.
    Left(RelPath),
}

/// Where the value of an environment variable comes from.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub enum Variable {
    /// The definition says it.
    Set(Interp),
    /// It is passed on from the environment of whoever builds, where it may be absent.
    Passed,
}

/// A value that a part's own texts can name, and that follows from conditions.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ValueDef {
    /// Its name.
    pub name: String,
    /// What it is; the first counts whose condition holds.
    pub cases: Vec<(Option<Condition>, Interp)>,
}

/// A generated C file that registers the modules built into a program. In the texts, `{module}` stands for a module's
/// part name and `{symbol}` for its symbol.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ModuleTable {
    /// The program.
    pub program: PartId,
    /// The file, below the folder of generated files.
    pub to: RelPath,
    /// What comes first.
    pub head: String,
    /// A line for each module before the table.
    pub declare: String,
    /// What opens the table.
    pub open: String,
    /// A line for each module in the table.
    pub entry: String,
    /// What closes the table.
    pub close: String,
}

impl Generator {
    /// Returns the files that it makes, below the folder of generated files; the first stands for the part.
    pub fn makes(&self) -> Vec<&RelPath> {
        match self {
            Generator::Command(command) => command.writes.iter().map(|written| &written.to).collect(),
            Generator::Template { to, .. }
            | Generator::Phase { to, .. }
            | Generator::Metadata { to, .. }
            | Generator::Service { to, .. } => vec![to],
            Generator::ModuleTable(table) => vec![&table.to],
            Generator::Record(header) => vec![&header.to],
            Generator::Kit(kit) => vec![&kit.to],
            Generator::Given { files } => files.iter().collect(),
        }
    }

    /// Returns its commands, if it is made by some.
    pub fn command(&self) -> Option<&CommandDef> {
        match self {
            Generator::Command(command) => Some(command),
            Generator::Template { .. }
            | Generator::Phase { .. }
            | Generator::ModuleTable(_)
            | Generator::Record(_)
            | Generator::Metadata { .. }
            | Generator::Kit(_)
            | Generator::Given { .. }
            | Generator::Service { .. } => None,
        }
    }

    /// Returns the patterns of the sources that it says it reads.
    pub fn reads(&self) -> &[Glob] {
        match self {
            Generator::Kit(kit) => &kit.headers,
            _ => self.command().map_or(&[], |command| &command.reads),
        }
    }

    /// Returns the single files that it is made of.
    fn made_of(&self) -> Vec<&SourceFile> {
        match self {
            Generator::Command(command) => command.files(),
            Generator::Template { from, .. } | Generator::Phase { from, .. } => vec![from],
            Generator::ModuleTable(_)
            | Generator::Record(_)
            | Generator::Metadata { .. }
            | Generator::Kit(_)
            | Generator::Given { .. }
            | Generator::Service { .. } => vec![],
        }
    }

    /// Returns the single files of the tree that it is made of.
    pub fn files(&self) -> Vec<&RelPath> {
        let of_tree = self.made_of().into_iter().filter_map(|file| match file {
            SourceFile::Tree(path) => Some(path),
            SourceFile::Part(_) | SourceFile::Beside(_) => None,
        });
        of_tree.collect()
    }

    /// Returns the files beside the definitions that it is made of.
    pub fn beside(&self) -> Vec<&RelPath> {
        let of_files = self.made_of().into_iter().filter_map(|file| match file {
            SourceFile::Beside(path) => Some(path),
            SourceFile::Tree(_) | SourceFile::Part(_) => None,
        });
        let of_texts =
            self.command().into_iter().flat_map(|command| command.pieces()).filter_map(|piece| match piece {
                Piece::Beside(path) => Some(path),
                _ => None,
            });
        of_files.chain(of_texts).collect()
    }

    /// Returns the parts whose files it names outside of its texts.
    pub fn parts(&self) -> Vec<PartId> {
        let parts = self.made_of().into_iter().filter_map(|file| match file {
            SourceFile::Part(part) => Some(*part),
            SourceFile::Tree(_) | SourceFile::Beside(_) => None,
        });
        parts.collect()
    }
}

impl RecordHeader {
    /// Returns the part whose record it tells when it is made.
    pub fn of(&self) -> Option<PartId> {
        match &self.form {
            RecordForm::Function(_) => None,
            RecordForm::Macro { of, .. } => Some(*of),
        }
    }
}

impl CommandDef {
    /// Returns all texts of its commands and variables.
    pub fn texts(&self) -> impl Iterator<Item = &Interp> {
        let set = self.environment.iter().filter_map(|(_, value)| match value {
            Variable::Set(value) => Some(value),
            Variable::Passed => None,
        });
        self.stages.iter().flatten().map(|word| &word.item).chain(set)
    }

    /// Returns all pieces of its commands.
    pub fn pieces(&self) -> impl Iterator<Item = &Piece> {
        self.stages.iter().flatten().flat_map(|word| &word.item.pieces)
    }

    fn files(&self) -> Vec<&SourceFile> {
        let laid_out = match &self.work_place {
            WorkPlace::Folder(_) => &[][..],
            WorkPlace::Scratch(files) => files,
        };
        self.input.iter().chain(laid_out.iter().map(|(_, file)| file)).collect()
    }
}
