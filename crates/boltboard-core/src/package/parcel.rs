//! Packages as a whole: names, shares, forms, and writing them.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::Serialize;

use super::PackageFault;
use super::archive::write_files;
use super::contents::{Packed, PackedFile, Share};
use super::debian::{DebianVersion, Dependency, dependencies};
use super::needs::{Needed, needed};
use super::{deb, licenses, rpm, spdx};
use crate::base::files::{make_folder, write_whole};
use crate::base::{FileError, Sha256, shell_word};
use crate::board::{ActionAbsent, Board, KIT_FILE, Tree};
use crate::install::{ActionNow, actions_now};
use crate::plan::PlanInput;

/// How hard archives are compressed: the size is near the least, and the time near nothing.
const LEVEL: i32 = 12;

/// What a package is written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PackageForm {
    /// A compressed archive with a list of what is in it.
    Tar,
    /// A package of Debian.
    Deb,
    /// A package of RPM.
    Rpm,
}

impl PackageForm {
    /// Checks that a tree says what a package of this form tells.
    ///
    /// # Errors
    /// It does not, or its name or version cannot be that of a package.
    pub fn check(self, tree: &Tree) -> Result<(), PackageFault> {
        package_name(tree)?;
        let version = &tree.version;
        let of_version = |c: char| c.is_ascii_alphanumeric() || ".+-~".contains(c);
        if !version.starts_with(|c: char| c.is_ascii_digit()) || !version.chars().all(of_version) {
            return Err(PackageFault::Version(version.clone()));
        }
        match self {
            PackageForm::Deb if tree.maintainer.is_none() => Err(PackageFault::NoMaintainer),
            PackageForm::Rpm if tree.license.is_none() => Err(PackageFault::NoLicense),
            PackageForm::Rpm if version.contains('-') => Err(PackageFault::RpmVersion(version.clone())),
            PackageForm::Tar | PackageForm::Deb | PackageForm::Rpm => Ok(()),
        }
    }
}

/// What the packages of a tree are called: small letters, and `-` for `_`.
fn package_name(tree: &Tree) -> Result<String, PackageFault> {
    let name = tree.name.to_ascii_lowercase().replace(['_', '+'], "-");
    let of_name = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "+-.".contains(c);
    let starts = name.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit());
    if name.len() < 2 || !starts || !name.chars().all(of_name) {
        return Err(PackageFault::Name(tree.name.clone()));
    }
    Ok(name)
}

/// One package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parcel {
    /// Its name.
    pub name: String,
    /// The name without what its share adds.
    pub of: String,
    /// Its version.
    pub version: String,
    /// What it holds; all, where nothing is split.
    pub share: Share,
    /// What it puts in place.
    pub files: Vec<PackedFile>,
    /// What that asks for.
    pub needed: Needed,
    /// The packages that it needs.
    pub depends: Vec<Dependency>,
    /// What is done once it is in place.
    pub(super) actions: Vec<ActionNow>,
}

/// A file that was written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PackageFile {
    /// Where.
    pub path: PathBuf,
    /// In bytes.
    pub size: u64,
    /// Its SHA-256, as other programs print it.
    pub sha256: String,
}

/// The longest short description that lists of packages show.
const SHORT: usize = 80;

impl Parcel {
    /// What it is, in one line.
    pub(super) fn summary(&self, tree: &Tree) -> String {
        let what = match self.share {
            Share::RunTime => "",
            Share::Development => " (to build on it)",
            Share::Documentation => " (to read)",
        };
        let summary = if tree.summary.trim().is_empty() { &tree.name } else { &tree.summary };
        format!("{}{what}", shortened(summary, SHORT - what.len()))
    }
}

/// A text of one line, cut off between two words where it is too long.
fn shortened(text: &str, most: usize) -> String {
    let mut short = String::new();
    for word in text.split_whitespace() {
        if short.chars().count() + word.chars().count() > most {
            return short.trim_end_matches([' ', ',', ':']).to_string() + " …";
        }
        short += word;
        short.push(' ');
    }
    short.trim_end().to_string()
}

/// The package of the tree that something was built against, by its kit.
fn built_against(board: &Board) -> Result<Option<Dependency>, PackageFault> {
    let Some(_) = &board.kit else { return Ok(None) };
    let from = DebianVersion::new(&board.tree.version);
    Ok(Some(Dependency { package: package_name(&board.tree)?, from: Some(from) }))
}

/// What a shell runs for an action with these words, if it has some; each line begins with `margin`.
pub(super) fn script_lines(action: &ActionNow, words: &[String], margin: &str) -> Option<String> {
    let program = shell_word(words.first()?);
    let line = words.iter().map(|word| shell_word(word)).collect::<Vec<_>>().join(" ");
    let summary = action.summary.replace(char::is_control, " ");
    let command = match action.absent {
        ActionAbsent::Skip => format!("if command -v {program} > /dev/null; then {line}; fi"),
        ActionAbsent::Fail => line,
    };
    Some(format!("{margin}# {summary}\n{margin}{command}\n"))
}

/// Makes one package of all files, or one for each share that has some. Libraries are looked up on the host below `root`.
///
/// # Errors
/// See [`PackageFault`].
pub fn parcels(
    input: &PlanInput<'_>,
    files: &[PackedFile],
    (form, is_split): (PackageForm, bool),
    root: &Path,
) -> Result<Vec<Parcel>, PackageFault> {
    let delivered = input.board.delivered();
    form.check(&delivered)?;
    let (of, version) = (package_name(&delivered)?, &delivered.version);
    let actions = actions_now(input);
    let asked = needed(files, root)?;
    let machine = asked.iter().find_map(|needed| needed.architecture);
    let kits: Vec<&Path> =
        files.iter().filter(|file| file.path.ends_with(KIT_FILE)).filter_map(|file| file.path.parent()).collect();
    let mut parcels = Vec::new();
    for share in Share::ALL {
        let is_of_kit = |file: &PackedFile| kits.iter().any(|kit| file.path.starts_with(kit));
        let share_of = |file: &PackedFile| if is_of_kit(file) { Share::Development } else { Share::of(file) };
        let is_in = |file: &PackedFile| if is_split { share_of(file) == share } else { share == Share::RunTime };
        let own: Vec<(&PackedFile, &Needed)> = files.iter().zip(&asked).filter(|(file, _)| is_in(file)).collect();
        if own.is_empty() {
            continue;
        }
        let mut needed = Needed::of_all(own.iter().map(|(_, needed)| *needed));
        // What is built on it is built for the same machines, also where that share itself holds no code.
        if share == Share::Development {
            needed.architecture = machine;
        }
        let files: Vec<PackedFile> = own.into_iter().map(|(file, _)| file.clone()).collect();
        let depends = match form {
            PackageForm::Rpm => rpm::needs(&needed),
            PackageForm::Tar | PackageForm::Deb => dependencies(root, &needed),
        };
        let depends = built_against(input.board)?.into_iter().chain(depends).collect();
        let (name, version) = (format!("{of}{}", share.suffix(form)), version.clone());
        let actions = if share == Share::RunTime { actions.clone() } else { vec![] };
        parcels.push(Parcel { name, of: of.clone(), version, share, files, needed, depends, actions });
    }
    Ok(parcels)
}

/// A file of a package, as its list tells it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Listed {
    path: PathBuf,
    mode: Option<String>,
    sha256: Option<String>,
    link: Option<String>,
    config: bool,
}

/// What lies in a package.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FileList<'a> {
    format: u32,
    name: &'a str,
    version: &'a str,
    archive: &'a str,
    sha256: &'a str,
    libraries: Vec<&'a str>,
    files: Vec<Listed>,
}

/// Writes a package into a folder, and its bill of materials beside it. Returns what was written, the package first.
///
/// # Errors
/// See [`PackageFault`]. Each file that is there is whole; what was to follow may be missing.
pub fn write(
    parcel: &Parcel,
    form: PackageForm,
    input: &PlanInput<'_>,
    root: &Path,
    folder: &Path,
) -> Result<Vec<PackageFile>, PackageFault> {
    let tree = &*input.board.delivered();
    let epoch = input.tools.epoch;
    make_folder(folder)?;
    let mut digests = BTreeMap::new();
    let (name, bytes) = match form {
        PackageForm::Tar => {
            let machine = parcel.needed.architecture.map_or("any", |machine| machine.name());
            let name = format!("{}-{}-{machine}.tar.zst", parcel.name, parcel.version);
            (name, compressed(&parcel.files, epoch, &mut digests)?)
        }
        PackageForm::Deb => {
            let machine = parcel.needed.architecture.map_or("all", |machine| machine.debian());
            let mut bytes = Vec::new();
            deb::write(parcel, tree, epoch, &mut bytes)?;
            (format!("{}_{}_{machine}.deb", parcel.name, parcel.version), bytes)
        }
        PackageForm::Rpm => {
            let machine = parcel.needed.architecture.map_or("noarch", |machine| machine.rpm());
            let mut bytes = Vec::new();
            rpm::write(parcel, tree, epoch, &mut bytes)?;
            (format!("{}-{}-1.{machine}.rpm", parcel.name, parcel.version), bytes)
        }
    };
    let mut made = vec![put(folder, &name, &bytes)?];
    if form == PackageForm::Tar {
        let manifest = FileList {
            format: 1,
            name: &parcel.name,
            version: &parcel.version,
            archive: &name,
            sha256: &made[0].sha256,
            libraries: parcel.needed.libraries.keys().map(String::as_str).collect(),
            files: parcel.files.iter().map(|file| listed(file, &digests)).collect(),
        };
        let text = serde_json::to_string_pretty(&manifest).expect("texts and numbers become JSON") + "\n";
        let beside = format!("{name}.json");
        made.push(put(folder, &beside, text.as_bytes())?);
    }
    let bill = spdx::bill(parcel, input, root, &made[0].sha256);
    made.push(put(folder, &format!("{name}.spdx.json"), bill.as_bytes())?);
    made.push(put(folder, &format!("{name}.licenses.txt"), licenses::list(parcel, input, root).as_bytes())?);
    Ok(made)
}

fn compressed(
    files: &[PackedFile],
    epoch: crate::base::Epoch,
    digests: &mut BTreeMap<PathBuf, Sha256>,
) -> Result<Vec<u8>, PackageFault> {
    let place = Path::new("/");
    let mut packer = zstd::Encoder::new(Vec::new(), LEVEL).map_err(FileError::on("pack", place))?;
    packer.include_checksum(true).map_err(FileError::on("pack", place))?;
    write_files(files, epoch, &mut packer, &mut |path, content| {
        digests.insert(path.to_path_buf(), Sha256::of(content));
    })?;
    Ok(packer.finish().map_err(FileError::on("pack", place))?)
}

fn put(folder: &Path, name: &str, bytes: &[u8]) -> Result<PackageFile, PackageFault> {
    let path = folder.join(name);
    write_whole(&path, bytes)?;
    Ok(PackageFile { path, size: bytes.len() as u64, sha256: Sha256::of(bytes).to_string() })
}

fn listed(file: &PackedFile, digests: &BTreeMap<PathBuf, Sha256>) -> Listed {
    let path = file.path.clone();
    let plain = Listed { path, mode: None, sha256: None, link: None, config: false };
    match &file.packed {
        Packed::File { mode, is_config, .. } => {
            let sha256 = digests.get(&file.path).map(Sha256::to_string);
            Listed { mode: Some(format!("{mode:o}")), sha256, config: *is_config, ..plain }
        }
        Packed::Link(to) => Listed { link: Some(to.clone()), ..plain },
        Packed::Folder { mode, .. } => Listed { mode: Some(format!("{mode:o}")), ..plain },
    }
}
