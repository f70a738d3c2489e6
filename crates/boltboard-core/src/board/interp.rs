//! Texts with `${…}` in them, filled in from resolved values and known folders.

use super::option::OptionId;
use super::part::PartId;
use crate::base::RelPath;

/// A text with places to fill in.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Interp {
    /// Its pieces, in order.
    pub pieces: Vec<Piece>,
}

/// One piece of an [`Interp`].
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Piece {
    /// As written.
    Text(String),
    /// `${NAME}`: an option's value.
    Option(OptionId),
    /// `${part:NAME}`: the file that a part makes.
    Part(PartId),
    /// `${beside:FILE}`: a file beside the definitions, below the folder of the root one.
    Beside(RelPath),
    /// `${path:…}`: a folder.
    Folder(Folder),
    /// `${step:reads}`: all that the step reads, one word each.
    Reads,
    /// `${step:output}`: all that the step writes, one word each.
    Writes,
    /// `${source:…}`: something about the source that is compiled.
    Source(SourceWord),
    /// `${value:NAME}`: a value of the part.
    Value(String),
    /// `${tree:name}`.
    TreeName,
    /// `${tree:version}`.
    TreeVersion,
}

/// What a text can say of the source that is compiled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum SourceWord {
    /// `${source:stem}`: its name without the ending.
    Stem,
    /// `${source:name}`: its name.
    Name,
    /// `${source:path}`: its path below the root of the sources.
    Path,
    /// `${source:part}`: the part that it belongs to.
    Part,
    /// `${source:module}`: the module that it belongs to, or else its own name without the ending.
    Module,
}

impl SourceWord {
    /// Their names in definitions.
    pub const ALL: [(&'static str, SourceWord); 5] = [
        ("stem", SourceWord::Stem),
        ("name", SourceWord::Name),
        ("path", SourceWord::Path),
        ("part", SourceWord::Part),
        ("module", SourceWord::Module),
    ];
}

/// The folders that a text can name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Folder {
    /// `${path:tree}`: the sources.
    Tree,
    /// `${path:board}`: the root definitions.
    Board,
    /// `${path:made}`: what generators make.
    Made,
}

impl Interp {
    /// Tells whether it says something of the source that is compiled.
    pub fn looks_at_source(&self) -> bool {
        self.pieces.iter().any(|piece| matches!(piece, Piece::Source(_)))
    }

    /// Makes a text with nothing to fill in.
    pub fn plain(text: &str) -> Interp {
        if text.is_empty() { Interp::default() } else { Interp { pieces: vec![Piece::Text(text.into())] } }
    }

    /// Returns the options that the text looks at.
    pub fn options(&self) -> impl Iterator<Item = OptionId> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Option(id) => Some(*id),
            Piece::Text(_)
            | Piece::Part(_)
            | Piece::Beside(_)
            | Piece::Folder(_)
            | Piece::Reads
            | Piece::Writes
            | Piece::Source(_)
            | Piece::Value(_)
            | Piece::TreeName
            | Piece::TreeVersion => None,
        })
    }
}
