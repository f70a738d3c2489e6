//! The dialects of C in which a text is read: what a compile's language and flags make of it.

/// What differs between dialects in how a text falls into tokens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Dialect {
    /// `??=` and the like stand for other characters.
    pub trigraphs: bool,
    /// `//` begins a comment.
    pub line_comments: bool,
    /// `R"x(…)x"` is one string.
    pub raw_strings: bool,
    /// `'` may stand between the digits of a number.
    pub separators: bool,
    /// Names count wherever they stand, also in strings and comments: what old preprocessors do.
    pub everywhere: bool,
}

/// The standards that dialects go by, with the extensions of compilers or without.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Standard {
    /// C before `//` comments.
    C90 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C from 1999 to 2017.
    C99 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C of 2023.
    C23 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C++ of 1998 and 2003.
    Cxx98 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C++ of 2011.
    Cxx11 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C++ of 2014.
    Cxx14 {
        /// With the compiler's extensions.
        extended: bool,
    },
    /// C++ from 2017 on.
    Cxx17,
    /// Assembly that goes through the preprocessor.
    Assembly,
}

impl Standard {
    /// Returns the standard that `-std=` names; `None` for one that we do not know.
    pub fn named(name: &str) -> Option<Standard> {
        let (extended, rest) = match name.strip_prefix("gnu") {
            Some(rest) => (true, rest),
            None => (false, name.strip_prefix("iso9899:").or_else(|| name.strip_prefix('c'))?),
        };
        Some(match rest {
            "89" | "90" | "1990" | "199409" => Standard::C90 { extended },
            "99" | "9x" | "1999" | "199x" | "11" | "1x" | "2011" | "17" | "18" | "2017" | "2018" => {
                Standard::C99 { extended }
            }
            "2x" | "23" | "2y" | "2024" => Standard::C23 { extended },
            "++98" | "++03" => Standard::Cxx98 { extended },
            "++11" | "++0x" => Standard::Cxx11 { extended },
            "++14" | "++1y" => Standard::Cxx14 { extended },
            "++17" | "++1z" | "++20" | "++2a" | "++23" | "++2b" | "++26" | "++2c" => Standard::Cxx17,
            _ => return None,
        })
    }

    /// Returns the dialects that a standard may mean: compilers disagree about a few.
    fn dialects(self) -> Vec<Dialect> {
        let plain =
            Dialect { trigraphs: false, line_comments: true, raw_strings: true, separators: false, everywhere: false };
        match self {
            Standard::C90 { extended: false } => {
                vec![Dialect { trigraphs: true, line_comments: false, raw_strings: false, ..plain }]
            }
            Standard::C90 { extended: true } => vec![Dialect { raw_strings: false, ..plain }],
            Standard::C99 { extended: false } => vec![Dialect { trigraphs: true, raw_strings: false, ..plain }],
            Standard::C99 { extended: true } => vec![plain],
            Standard::C23 { extended: true } => vec![Dialect { separators: true, ..plain }],
            // Trigraphs left with this standard, in some compilers later.
            Standard::C23 { extended: false } => [true, false]
                .map(|trigraphs| Dialect { trigraphs, raw_strings: false, separators: true, ..plain })
                .to_vec(),
            Standard::Cxx98 { extended } => vec![Dialect { trigraphs: !extended, raw_strings: false, ..plain }],
            Standard::Cxx11 { extended } => vec![Dialect { trigraphs: !extended, ..plain }],
            Standard::Cxx14 { extended } => vec![Dialect { trigraphs: !extended, separators: true, ..plain }],
            Standard::Cxx17 => vec![Dialect { separators: true, ..plain }],
            Standard::Assembly => vec![Dialect { raw_strings: false, ..plain }],
        }
    }
}

/// The dialects in which one compile may read its text; a name counts when it occurs in any of them.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Dialects(Vec<Dialect>);

impl Dialects {
    /// Returns those of a standard, `None` for the compiler's own choice in a language of these standards.
    pub fn of(standards: &[Standard]) -> Dialects {
        Dialects(standards.iter().flat_map(|standard| standard.dialects()).collect()).tidy()
    }

    /// Returns the same with trigraphs.
    #[must_use]
    pub fn with_trigraphs(self) -> Dialects {
        Dialects(self.0.into_iter().map(|dialect| Dialect { trigraphs: true, ..dialect }).collect()).tidy()
    }

    /// Returns the same for a preprocessor of before the first standard.
    #[must_use]
    pub fn everywhere(self) -> Dialects {
        Dialects(self.0.into_iter().map(|dialect| Dialect { everywhere: true, ..dialect }).collect()).tidy()
    }

    /// Returns all that might be meant where flags say something that we do not know.
    #[must_use]
    pub fn or_any(self) -> Dialects {
        let mut all = self.0;
        for dialect in all.clone() {
            all.extend([
                Dialect { trigraphs: !dialect.trigraphs, ..dialect },
                Dialect { line_comments: !dialect.line_comments, ..dialect },
                Dialect { raw_strings: !dialect.raw_strings, ..dialect },
                Dialect { separators: !dialect.separators, ..dialect },
            ]);
        }
        Dialects(all).tidy()
    }

    /// Returns each of them.
    pub fn each(&self) -> impl Iterator<Item = Dialect> {
        self.0.iter().copied()
    }

    fn tidy(mut self) -> Dialects {
        self.0.sort_unstable();
        self.0.dedup();
        self
    }
}

impl Default for Dialects {
    /// C as compilers take it when nothing is said.
    fn default() -> Dialects {
        Dialects::of(&[Standard::C99 { extended: true }])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn standards_are_known_by_all_their_names() {
        for (name, want) in [
            ("c90", Some(Standard::C90 { extended: false })),
            ("gnu89", Some(Standard::C90 { extended: true })),
            ("iso9899:1999", Some(Standard::C99 { extended: false })),
            ("gnu17", Some(Standard::C99 { extended: true })),
            ("c2x", Some(Standard::C23 { extended: false })),
            ("c++14", Some(Standard::Cxx14 { extended: false })),
            ("gnu++20", Some(Standard::Cxx17)),
            ("f2008", None),
        ] {
            assert_eq!(Standard::named(name), want, "{name}");
        }
    }
}
