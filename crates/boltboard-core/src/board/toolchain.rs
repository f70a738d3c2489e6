//! How everything is compiled, for the machine that it is made for and for the one that builds.

use super::interp::Interp;
use super::part::When;

/// The machine that something is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, serde::Serialize, serde::Deserialize)]
pub enum Machine {
    /// The one that the tree is built for.
    #[default]
    Target,
    /// The one that builds, where the programs of generators run.
    Host,
}

impl Machine {
    /// Both, the usual one first.
    pub const ALL: [Machine; 2] = [Machine::Target, Machine::Host];

    /// Returns its word in definitions.
    pub fn word(self) -> &'static str {
        match self {
            Machine::Target => "target",
            Machine::Host => "host",
        }
    }
}

/// What sets the environment of a toolchain.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum EnvironmentDef {
    /// A script of the compiler's maker.
    Script(Interp),
    /// Environment modules of a cluster, in this order.
    Modules(Vec<Interp>),
}

impl EnvironmentDef {
    /// Returns its texts.
    pub fn texts(&self) -> &[Interp] {
        match self {
            EnvironmentDef::Script(file) => std::slice::from_ref(file),
            EnvironmentDef::Modules(names) => names,
        }
    }
}

/// How everything is compiled, unless a part says more.
#[derive(Debug, Clone, Default, serde::Serialize, serde::Deserialize)]
pub struct Toolchain {
    /// The C compiler.
    pub c_compiler: Interp,
    /// The C++ compiler.
    pub cxx_compiler: Interp,
    /// The Fortran compiler.
    pub fortran_compiler: Interp,
    /// What sets its environment, if anything does.
    pub environment: Option<EnvironmentDef>,
    /// The folder that stands for `/` of the target; none, or an empty text, is this host itself.
    pub sysroot: Option<Interp>,
    /// Flags of every compile.
    pub flags: Vec<When<Interp>>,
    /// Flags of C compiles.
    pub c_flags: Vec<When<Interp>>,
    /// Flags of C++ compiles.
    pub cxx_flags: Vec<When<Interp>>,
    /// Flags of Fortran compiles.
    pub fortran_flags: Vec<When<Interp>>,
    /// Flags of compiles of assembly.
    pub asm_flags: Vec<When<Interp>>,
    /// The assembler of `.asm` sources.
    pub assembler: Interp,
    /// Its flags.
    pub assembler_flags: Vec<When<Interp>>,
    /// Flags of every link.
    pub link_flags: Vec<When<Interp>>,
}

impl Toolchain {
    /// Returns one that says nothing.
    pub fn plain() -> Toolchain {
        Toolchain {
            c_compiler: Interp::plain("cc"),
            cxx_compiler: Interp::plain("c++"),
            fortran_compiler: Interp::plain("gfortran"),
            assembler: Interp::plain("nasm"),
            ..Toolchain::default()
        }
    }

    /// Returns the texts that decide which programs it is.
    pub fn programs(&self) -> impl Iterator<Item = &Interp> {
        [&self.c_compiler, &self.cxx_compiler, &self.fortran_compiler]
            .into_iter()
            .chain(&self.sysroot)
            .chain(self.environment.iter().flat_map(EnvironmentDef::texts))
    }

    /// Returns all lists of flags.
    pub fn lists(&self) -> [&Vec<When<Interp>>; 7] {
        [
            &self.flags,
            &self.c_flags,
            &self.cxx_flags,
            &self.fortran_flags,
            &self.asm_flags,
            &self.assembler_flags,
            &self.link_flags,
        ]
    }
}

/// The toolchains of both machines.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Toolchains {
    /// For the machine that the tree is built for.
    pub target: Toolchain,
    /// For the one that builds.
    pub host: Toolchain,
}

impl Toolchains {
    /// Returns that of a machine.
    pub fn of(&self, machine: Machine) -> &Toolchain {
        match machine {
            Machine::Target => &self.target,
            Machine::Host => &self.host,
        }
    }

    /// Returns both, that of the target first.
    pub fn both(&self) -> [&Toolchain; 2] {
        [&self.target, &self.host]
    }
}
