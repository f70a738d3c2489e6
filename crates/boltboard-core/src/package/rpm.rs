//! Packages of RPM, by crate `rpm`. What they need are libraries and versions of their symbols by name, as that world does it; no
//! database is asked.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::Path;

use ::rpm::{BuildConfig, CompressionType, Dependency, FileOptions, PackageBuilder};

use super::PackageFault;
use super::architecture::Architecture;
use super::contents::{Packed, Share};
use super::needs::Needed;
use super::parcel::{Parcel, script_lines};
use crate::base::{Epoch, FileError};
use crate::board::Tree;
use crate::install::ActionNow;

/// The number of this packing of a version.
const RELEASE: &str = "1";

/// Writes a package.
///
/// # Errors
/// See [`PackageFault`].
pub(super) fn write(parcel: &Parcel, tree: &Tree, epoch: Epoch, out: &mut dyn Write) -> Result<(), PackageFault> {
    let license = tree.license.as_deref().ok_or(PackageFault::NoLicense)?;
    let refused = |error: ::rpm::Error| PackageFault::Rpm(error.to_string());
    let machine = parcel.needed.architecture.map_or("noarch", Architecture::rpm);
    let mut builder = PackageBuilder::new(&parcel.name, &parcel.version, license, machine, &parcel.summary(tree));
    let seconds = u32::try_from(epoch.seconds()).unwrap_or(u32::MAX);
    builder.using_config(BuildConfig::v4().compression(CompressionType::Gzip).source_date(seconds));
    builder.release(RELEASE).description(if tree.about.trim().is_empty() { &tree.summary } else { tree.about.trim() });
    if let Some(homepage) = &tree.homepage {
        builder.url(homepage);
    }
    if let Some(maintainer) = &tree.maintainer {
        builder.packager(maintainer);
    }
    for file in &parcel.files {
        let at = file.path.display().to_string();
        match &file.packed {
            Packed::File { source, mode, is_config } => {
                let content = std::fs::read(source).map_err(FileError::on("read", source))?;
                let options = FileOptions::new(at).permissions(bits(*mode));
                let options = if *is_config { options.config().noreplace() } else { options };
                builder.with_file_contents(content, options).map_err(refused)?;
            }
            Packed::Link(to) => {
                builder.with_symlink(FileOptions::symlink(at, to)).map_err(refused)?;
            }
            Packed::Folder { mode, owner } => {
                let mut options = FileOptions::dir(at).permissions(bits(*mode));
                if let Some(owner) = owner {
                    let (user, group) = owner.split_once(':').unwrap_or((owner, ""));
                    options = if user.is_empty() { options } else { options.user(user) };
                    options = if group.is_empty() { options } else { options.group(group) };
                }
                builder.with_dir_entry(options).map_err(refused)?;
            }
        }
    }
    let is_wide = parcel.needed.architecture.is_none_or(Architecture::is_wide);
    for need in &parcel.depends {
        builder.requires(Dependency::any(&need.package));
    }
    for name in own_libraries(parcel) {
        builder.provides(Dependency::any(of_library(&name, "", is_wide)));
    }
    if parcel.share == Share::Development {
        builder.requires(Dependency::eq(&parcel.of, format!("{}-{RELEASE}", parcel.version)));
    }
    if let Some(script) = script(&parcel.actions, |action| &action.run) {
        builder.post_install_script(script);
    }
    if let Some(script) = script(&parcel.actions, |action| &action.undo) {
        // Not where a newer one takes its place.
        builder.post_uninstall_script(format!("if [ \"$1\" = 0 ]; then\n{script}fi\n"));
    }
    let mut bytes = Vec::new();
    builder.build().and_then(|package| package.write(&mut bytes)).map_err(refused)?;
    out.write_all(&bytes).map_err(FileError::on("pack", Path::new(&parcel.name)))?;
    Ok(())
}

fn bits(mode: u32) -> u16 {
    u16::try_from(mode & 0o7777).unwrap_or(0o644)
}

/// A library, or a version of its symbols, as packages name it.
fn of_library(name: &str, version: &str, is_wide: bool) -> String {
    match (version, is_wide) {
        (_, true) => format!("{name}({version})(64bit)"),
        ("", false) => name.to_string(),
        (_, false) => format!("{name}({version})"),
    }
}

/// What files ask for, as packages name it: their libraries, and the versions of symbols that they use.
pub(super) fn needs(needed: &Needed) -> Vec<super::debian::Dependency> {
    let is_wide = needed.architecture.is_none_or(Architecture::is_wide);
    let libraries = needed.libraries.keys().chain(&needed.not_found).map(|name| of_library(name, "", is_wide));
    let is_asked = |name: &String| needed.libraries.contains_key(name) || needed.not_found.contains(name);
    let versions = needed.symbols.iter().filter_map(|symbol| symbol.of.as_ref()).filter(|(_, name)| is_asked(name));
    let all: BTreeSet<String> =
        libraries.chain(versions.map(|(version, name)| of_library(name, version, is_wide))).collect();
    all.into_iter().map(|package| super::debian::Dependency { package, from: None }).collect()
}

/// The libraries that a package itself brings.
fn own_libraries(parcel: &Parcel) -> Vec<String> {
    let is_file = |packed: &Packed| matches!(packed, Packed::File { .. });
    let names = parcel.files.iter().filter(|file| is_file(&file.packed)).filter_map(|file| file.path.file_name());
    let names = names.map(|name| name.to_string_lossy().into_owned());
    names.filter(|name| name.starts_with("lib") && (name.ends_with(".so") || name.contains(".so."))).collect()
}

fn script(actions: &[ActionNow], words: impl Fn(&ActionNow) -> &Vec<String>) -> Option<String> {
    let lines: String = actions.iter().filter_map(|action| script_lines(action, words(action), "")).collect();
    Some(lines).filter(|lines| !lines.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn libraries_are_named_as_that_world_names_them() {
        assert_eq!(of_library("libm.so.6", "", true), "libm.so.6()(64bit)");
        assert_eq!(of_library("libm.so.6", "GLIBC_2.29", true), "libm.so.6(GLIBC_2.29)(64bit)");
        assert_eq!(of_library("libm.so.6", "", false), "libm.so.6");
        assert_eq!(of_library("libm.so.6", "GLIBC_2.29", false), "libm.so.6(GLIBC_2.29)");
    }
}
