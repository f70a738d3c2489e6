//! Which machines files are for.

use object::elf;

/// A kind of machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Architecture {
    /// 64-bit x86.
    X86_64,
    /// 32-bit x86.
    X86,
    /// 64-bit ARM.
    Arm64,
    /// 32-bit ARM with floating point.
    Arm,
    /// 64-bit RISC-V.
    RiscV64,
    /// 64-bit POWER, little end first.
    PowerLe,
    /// IBM Z.
    S390x,
    /// 64-bit LoongArch.
    LoongArch64,
}

impl Architecture {
    /// Each with its number in ELF files, its usual name, and its name in packages of Debian.
    const TABLE: [(Architecture, u16, &str, &str); 8] = [
        (Architecture::X86_64, elf::EM_X86_64.0, "x86_64", "amd64"),
        (Architecture::X86, elf::EM_386.0, "i686", "i386"),
        (Architecture::Arm64, elf::EM_AARCH64.0, "aarch64", "arm64"),
        (Architecture::Arm, elf::EM_ARM.0, "armv7", "armhf"),
        (Architecture::RiscV64, elf::EM_RISCV.0, "riscv64", "riscv64"),
        (Architecture::PowerLe, elf::EM_PPC64.0, "ppc64le", "ppc64el"),
        (Architecture::S390x, elf::EM_S390.0, "s390x", "s390x"),
        (Architecture::LoongArch64, elf::EM_LOONGARCH.0, "loongarch64", "loong64"),
    ];

    /// The one with that number in ELF files.
    pub fn of_elf(machine: u16) -> Option<Architecture> {
        Architecture::TABLE.iter().find(|row| row.1 == machine).map(|row| row.0)
    }

    fn row(self) -> &'static (Architecture, u16, &'static str, &'static str) {
        // Each stands in the table in the order of their definition.
        &Architecture::TABLE[self as usize]
    }

    /// Its usual name.
    pub fn name(self) -> &'static str {
        self.row().2
    }

    /// Its name in packages of RPM.
    pub fn rpm(self) -> &'static str {
        if self == Architecture::Arm { "armv7hl" } else { self.name() }
    }

    /// Tells whether its addresses have 64 bits.
    pub fn is_wide(self) -> bool {
        !matches!(self, Architecture::X86 | Architecture::Arm)
    }

    /// Its name in packages of Debian.
    pub fn debian(self) -> &'static str {
        self.row().3
    }
}

impl std::fmt::Display for Architecture {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_stands_at_its_place() {
        for row in Architecture::TABLE {
            assert_eq!(row.0.row().0, row.0);
            assert_eq!(Architecture::of_elf(row.1), Some(row.0));
        }
        assert_eq!(Architecture::of_elf(0xffff), None);
    }
}
