//! What all compiles have in common.

use crate::adopt::model::{DrawnSource, Model};
use crate::adopt::ways::common;

/// What all compiles have in common, and those of one language.
#[derive(Debug, Default)]
pub(super) struct Chain {
    pub flags: Vec<Vec<String>>,
    pub c_flags: Vec<Vec<String>>,
    pub cxx_flags: Vec<Vec<String>>,
    pub defines: Vec<String>,
    /// Folders for headers, where all have the same ones.
    pub includes: Vec<(String, String)>,
}

impl Chain {
    pub fn of(model: &Model) -> Chain {
        let all: Vec<&DrawnSource> = model.parts.iter().flat_map(|part| &part.sources).collect();
        let flags = common(all.iter().map(|source| &source.ways.flags));
        let of_language = |is_cxx: bool| {
            let own = all.iter().filter(|source| source.is_cxx == is_cxx).map(|source| &source.ways.flags);
            let mut own = common(own);
            own.retain(|words| !flags.contains(words));
            own
        };
        let defines: Vec<Vec<String>> =
            all.iter().map(|source| source.ways.defines.values().cloned().collect()).collect();
        let includes = |source: &&DrawnSource| source.ways.includes.clone();
        let same = all.windows(2).all(|pair| pair[0].ways.includes == pair[1].ways.includes);
        Chain {
            c_flags: of_language(false),
            cxx_flags: of_language(true),
            defines: common(defines.iter()),
            includes: all.first().filter(|_| same && all.len() > 1).map(includes).unwrap_or_default(),
            flags,
        }
    }
}
