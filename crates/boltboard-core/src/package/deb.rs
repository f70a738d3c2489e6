//! Packages of Debian, as `deb(5)` and `deb-control(5)` describe them: `ar` by crate `ar`, compression by crate `flate2`.

use std::fmt::Write as _;
use std::io::Write;
use std::path::Path;

use flate2::Compression;
use flate2::write::GzEncoder;

use super::PackageFault;
use super::archive::{write_files, write_texts};
use super::contents::{Packed, PackedFile, Share};
use super::parcel::{Parcel, script_lines};
use crate::base::{Epoch, FileError};
use crate::board::Tree;
use crate::install::ActionNow;

/// Writes a package.
///
/// # Errors
/// See [`PackageFault`].
pub(super) fn write(parcel: &Parcel, tree: &Tree, epoch: Epoch, out: &mut dyn Write) -> Result<(), PackageFault> {
    let maintainer = tree.maintainer.as_deref().ok_or(PackageFault::NoMaintainer)?;
    let mut control = vec![("control", control_text(parcel, tree, maintainer)?, 0o644)];
    let configs = configurations(&parcel.files);
    if !configs.is_empty() {
        control.push(("conffiles", configs, 0o644));
    }
    if parcel.share == Share::RunTime {
        let install = script("configure", &parcel.actions, |action| &action.run);
        let remove = script("remove", &parcel.actions, |action| &action.undo);
        control.extend(install.map(|text| ("postinst", text, 0o755)));
        control.extend(remove.map(|text| ("postrm", text, 0o755)));
    }
    let control = packed(|out| write_texts(&control, epoch, out))?;
    let data = packed(|out| write_files(&parcel.files, epoch, out, &mut |_, _| {}))?;
    let mut archive = ar::Builder::new(out);
    for (name, bytes) in [("debian-binary", &b"2.0\n"[..]), ("control.tar.gz", &control), ("data.tar.gz", &data)] {
        let mut header = ar::Header::new(name.as_bytes().to_vec(), bytes.len() as u64);
        header.set_mode(0o100_644);
        header.set_mtime(epoch.seconds());
        archive.append(&header, bytes).map_err(FileError::on("pack", Path::new(name)))?;
    }
    Ok(())
}

fn packed(write: impl FnOnce(&mut GzEncoder<Vec<u8>>) -> Result<(), FileError>) -> Result<Vec<u8>, FileError> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::best());
    write(&mut packer)?;
    packer.finish().map_err(FileError::on("pack", Path::new("/")))
}

fn control_text(parcel: &Parcel, tree: &Tree, maintainer: &str) -> Result<String, PackageFault> {
    let architecture = parcel.needed.architecture.map_or("all", |architecture| architecture.debian());
    let mut text = format!(
        "Package: {}\nVersion: {}\nArchitecture: {architecture}\nMaintainer: {maintainer}\nInstalled-Size: {}\n",
        parcel.name,
        parcel.version,
        installed_size(&parcel.files)?
    );
    let mut depends: Vec<String> = parcel.depends.iter().map(ToString::to_string).collect();
    if parcel.share == Share::Development {
        depends.insert(0, format!("{} (= {})", parcel.of, parcel.version));
    }
    if !depends.is_empty() {
        let _ = writeln!(text, "Depends: {}", depends.join(", "));
    }
    text += "Section: misc\nPriority: optional\n";
    if let Some(homepage) = &tree.homepage {
        let _ = writeln!(text, "Homepage: {homepage}");
    }
    let _ = writeln!(text, "Description: {}", parcel.summary(tree));
    for line in tree.about.trim().lines() {
        let _ = writeln!(text, " {}", if line.trim().is_empty() { "." } else { line });
    }
    Ok(text)
}

/// In units of 1,024 bytes, each file rounded up.
fn installed_size(files: &[PackedFile]) -> Result<u64, PackageFault> {
    let mut size = 0;
    for file in files {
        size += match &file.packed {
            Packed::File { source, .. } => {
                std::fs::metadata(source).map_err(FileError::on("look at", source))?.len().div_ceil(1024)
            }
            Packed::Link(_) | Packed::Folder { .. } => 1,
        };
    }
    Ok(size)
}

fn configurations(files: &[PackedFile]) -> String {
    let is_config = |file: &&PackedFile| matches!(file.packed, Packed::File { is_config: true, .. });
    files.iter().filter(is_config).map(|file| format!("{}\n", file.path.display())).collect()
}

/// What is run after a step of the package manager; nothing where no action has words for it.
fn script(step: &str, actions: &[ActionNow], words: impl Fn(&ActionNow) -> &Vec<String>) -> Option<String> {
    let lines: String = actions.iter().filter_map(|action| script_lines(action, words(action), "    ")).collect();
    let text = format!("#!/bin/sh\nset -e\nif [ \"$1\" = {step} ]; then\n{lines}fi\n");
    Some(text).filter(|_| !lines.is_empty())
}
