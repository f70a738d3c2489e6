//! What packages hold, and what became of them.

use std::collections::BTreeSet;
use std::path::Path;

use boltboard_core::base::shell_word;
use boltboard_core::package::{PackageFile, Packed, PackedFile, Parcel, Share};
use serde::Serialize;

use super::text::{Cell, Role, bytes, columns, count, next_line, paint};

/// Lists what would be packed.
pub fn preview(files: &[PackedFile], is_split: bool, width: usize) -> String {
    let row = |file: &PackedFile| -> Vec<Cell> {
        let share = if is_split { Share::of(file).word() } else { "" };
        let (mode, what) = match &file.packed {
            Packed::File { mode, is_config: true, .. } => (format!("{mode:o}"), "configuration".to_string()),
            Packed::File { mode, .. } => (format!("{mode:o}"), String::new()),
            Packed::Link(to) => (String::new(), format!("→ {to}")),
            Packed::Folder { mode, owner } => {
                let of = owner.as_ref().map_or(String::new(), |owner| format!(", of {owner}"));
                (format!("{mode:o}"), format!("empty folder{of}"))
            }
        };
        vec![
            (Role::Faint, share.to_string()),
            (Role::Faint, mode),
            (Role::Name, file.path.display().to_string()),
            (Role::Faint, what),
        ]
    };
    let rows: Vec<Vec<Cell>> = files.iter().map(row).collect();
    let text = columns(&rows, 0, width);
    text + &next_line("boltboard package", "build what is not current, and pack it")
}

/// Says what was written; places are shown from `from`.
pub fn written(made: &[(Parcel, Vec<PackageFile>)], from: &Path) -> String {
    let mut text = String::new();
    let shown = |path: &Path| path.strip_prefix(from).unwrap_or(path).display().to_string();
    for (parcel, files) in made {
        let [package, beside @ ..] = files.as_slice() else { continue };
        text += &format!(
            "{} {} ({}, {})\n",
            paint(Role::Good, "Packed:"),
            shown(&package.path),
            count(parcel.files.len(), "file", "files"),
            bytes(package.size)
        );
        text += &format!("  sha256   {}\n", package.sha256);
        if !parcel.depends.is_empty() {
            let all: Vec<String> = parcel.depends.iter().map(ToString::to_string).collect();
            text += &format!("  needs    {}\n", all.join(", "));
        }
        let name = |file: &PackageFile| file.path.file_name().map(|name| name.to_string_lossy().into_owned());
        let beside: Vec<String> = beside.iter().filter_map(name).collect();
        text += &format!("  beside   {}\n", beside.join(", "));
        let no_owner = parcel.needed.libraries.values().filter(|library| library.owner.is_none());
        let unowned: Vec<&str> = no_owner
            .map(|library| library.name.as_str())
            .chain(parcel.needed.not_found.iter().map(String::as_str))
            .collect();
        if !unowned.is_empty() {
            text += &format!(
                "{} no package of this host has {}: who installs this one must have it\n",
                paint(Role::Warn, "not known:"),
                unowned.join(", ")
            );
        }
    }
    let debs = made.iter().filter_map(|(_, files)| files.first()).filter(|file| ends_in(&file.path, "deb"));
    // A name without a folder would be that of a package that the system has.
    let named = |path: &Path| match path.strip_prefix(from) {
        Ok(rest) => format!("./{}", rest.display()),
        Err(_) => path.display().to_string(),
    };
    let debs: Vec<String> = debs.map(|file| shell_word(&named(&file.path))).collect();
    let odd: BTreeSet<&str> = made.iter().flat_map(|(parcel, _)| &parcel.files).filter_map(odd_place).collect();
    if !debs.is_empty() && !odd.is_empty() {
        let places: Vec<&str> = odd.into_iter().collect();
        text += &format!(
            "{} it puts files below {}, which systems leave to their owners\n",
            paint(Role::Warn, "place:"),
            places.join(" and ")
        );
        text += &next_line("boltboard set prefix=/usr", "have it below /usr, as packages of the system do");
    }
    if !debs.is_empty() {
        let what = if debs.len() == 1 { "install it, with what it needs" } else { "install them, with what they need" };
        text += &next_line(format!("sudo apt install {}", debs.join(" ")), what);
    }
    text
}

fn ends_in(path: &Path, ending: &str) -> bool {
    path.extension().is_some_and(|own| own == ending)
}

/// A place that no package of a system is to use.
fn odd_place(file: &PackedFile) -> Option<&'static str> {
    ["/usr/local", "/home", "/root", "/tmp"].into_iter().find(|place| file.path.starts_with(place))
}

/// What would be packed, as JSON.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PreviewAnswer<'f> {
    format: u32,
    files: Vec<FileTold<'f>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FileTold<'f> {
    path: &'f Path,
    mode: Option<String>,
    share: &'static str,
    config: bool,
    link: Option<&'f str>,
}

impl<'f> PreviewAnswer<'f> {
    /// Puts the answer together.
    pub fn of(files: &'f [PackedFile]) -> PreviewAnswer<'f> {
        let told = |file: &'f PackedFile| {
            let (mode, config, link) = match &file.packed {
                Packed::File { mode, is_config, .. } => (Some(format!("{mode:o}")), *is_config, None),
                Packed::Link(to) => (None, false, Some(to.as_str())),
                Packed::Folder { mode, .. } => (Some(format!("{mode:o}")), false, None),
            };
            FileTold { path: &file.path, mode, share: Share::of(file).word(), config, link }
        };
        PreviewAnswer { format: super::json::FORMAT, files: files.iter().map(told).collect() }
    }
}

/// The answer as JSON.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PackageAnswer<'m> {
    format: u32,
    packages: Vec<PackageTold<'m>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct PackageTold<'m> {
    name: &'m str,
    version: &'m str,
    machine: Option<&'static str>,
    files: usize,
    needs: Vec<String>,
    not_known: Vec<&'m str>,
    written: &'m [PackageFile],
}

impl<'m> PackageAnswer<'m> {
    /// Puts the answer together.
    pub fn of(made: &'m [(Parcel, Vec<PackageFile>)]) -> PackageAnswer<'m> {
        let told = |(parcel, written): &'m (Parcel, Vec<PackageFile>)| {
            let no_owner = parcel.needed.libraries.values().filter(|library| library.owner.is_none());
            let no_owner = no_owner.map(|library| library.name.as_str());
            PackageTold {
                name: &parcel.name,
                version: &parcel.version,
                machine: parcel.needed.architecture.map(|machine| machine.name()),
                files: parcel.files.len(),
                needs: parcel.depends.iter().map(ToString::to_string).collect(),
                not_known: no_owner.chain(parcel.needed.not_found.iter().map(String::as_str)).collect(),
                written,
            }
        };
        PackageAnswer { format: super::json::FORMAT, packages: made.iter().map(told).collect() }
    }
}
