//! Empty folders that an installation makes, with their permission bits and owners.

use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};

use super::place::{checked_folder, stays_below};
use super::{InstallFault, staged};
use crate::base::FileError;
use crate::board::{PartDef, PartId};
use crate::plan::PlanInput;

/// An empty folder to install.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InstallFolder {
    /// The part that it belongs to.
    pub part: PartId,
    /// Where it goes, below the staging folder if there is one.
    pub target: PathBuf,
    /// Permission bits.
    pub mode: u32,
    /// Who it is to belong to, as in `user:group`.
    pub owner: Option<String>,
    /// What is there already.
    pub there: There,
}

/// What lies where an empty folder is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum There {
    /// Nothing.
    Nothing,
    /// A folder. It is left as it is: what a person made of it counts.
    Folder,
    /// Something else.
    Other,
}

/// An empty folder that an installation makes, whatever lies there now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EmptyPlace {
    /// The part that it belongs to.
    pub part: PartId,
    /// Where it will be for its users.
    pub path: PathBuf,
    /// Permission bits.
    pub mode: u32,
    /// Who it is to belong to, as in `user:group`.
    pub owner: Option<String>,
}

/// Works out the empty folders of a part.
pub(super) fn empty_places(input: &PlanInput<'_>, id: PartId, part: &PartDef) -> Result<Vec<EmptyPlace>, InstallFault> {
    let Some(rule) = &part.install else { return Ok(Vec::new()) };
    let to = checked_folder(part, &input.text(&rule.to))?;
    let mut places = Vec::new();
    for folder in &rule.folders {
        let owner = folder.owner.as_ref().map(|owner| input.text(owner));
        if let Some(owner) = owner.as_ref().filter(|owner| !is_owner(owner)) {
            return Err(InstallFault::Owner { part: part.name.clone(), owner: owner.clone() });
        }
        places.push(EmptyPlace { part: id, path: folder.path.below(&to), mode: folder.mode, owner });
    }
    Ok(places)
}

/// Looks at what lies where an empty folder is to be.
pub(super) fn planned(place: EmptyPlace, staging: Option<&Path>) -> Result<InstallFolder, InstallFault> {
    let EmptyPlace { part, path, mode, owner } = place;
    let target = staged(&path, staging);
    staging.map_or(Ok(()), |staging| stays_below(staging, &target))?;
    let there = match std::fs::symlink_metadata(&target) {
        Ok(_) if target.is_dir() => There::Folder,
        Ok(_) => There::Other,
        Err(_) => There::Nothing,
    };
    Ok(InstallFolder { part, target, mode, owner, there })
}

/// Makes a folder. Returns whether it belongs to whom it is to.
pub(super) fn make(folder: &InstallFolder) -> Result<bool, FileError> {
    let target = &folder.target;
    crate::base::files::make_folder(target)?;
    std::fs::set_permissions(target, std::fs::Permissions::from_mode(folder.mode))
        .map_err(FileError::on("set the mode of", target))?;
    let Some(owner) = &folder.owner else { return Ok(true) };
    let Some((user, group)) = numbers(owner) else { return Ok(false) };
    let status = std::fs::metadata(target).map_err(FileError::on("look at", target))?;
    let is_so = user.is_none_or(|user| user == status.uid()) && group.is_none_or(|group| group == status.gid());
    // Only an administrator can give something away.
    Ok(is_so || chown(target, user, group).is_ok())
}

fn is_owner(text: &str) -> bool {
    let is_name = |name: &str| {
        let known = |c: char| c.is_ascii_alphanumeric() || "_.-".contains(c);
        !name.is_empty() && !name.starts_with('-') && name.chars().all(known)
    };
    match text.split_once(':') {
        Some((user, group)) => (user.is_empty() || is_name(user)) && is_name(group),
        None => is_name(text),
    }
}

/// Returns the numbers of a user and a group, where this machine's own files know them.
fn numbers(owner: &str) -> Option<(Option<u32>, Option<u32>)> {
    let (user, group) = owner.split_once(':').map_or((owner, ""), |(user, group)| (user, group));
    let of = |name: &str, file: &str| match name {
        "" => Some(None),
        _ => number(name, &std::fs::read_to_string(file).unwrap_or_default()).map(Some),
    };
    Some((of(user, "/etc/passwd")?, of(group, "/etc/group")?))
}

/// The number of a name in a file of `name:…:number:…`.
fn number(name: &str, text: &str) -> Option<u32> {
    let line = text.lines().map(|line| line.split(':').collect::<Vec<_>>()).find(|fields| fields[0] == name);
    line.map_or_else(|| name.parse().ok(), |fields| fields.get(2)?.parse().ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_have_numbers_where_the_machine_knows_them() {
        let text = "root:x:0:0::/:/bin/sh\nkeeper:x:701:702::/:/bin/false\nbroken\n";
        assert_eq!(number("keeper", text), Some(701));
        assert_eq!(number("44", text), Some(44));
        assert_eq!(number("broken", text), None);
        assert_eq!(number("nobody-here", text), None);
    }

    #[test]
    fn owners_are_names_and_nothing_that_a_command_could_take_for_more() {
        for good in ["keeper", "keeper:staff", ":staff", "701:702"] {
            assert!(is_owner(good), "{good}");
        }
        for bad in ["", ":", "keeper:", "-R", "a b", "a;b", "a:b:c"] {
            assert!(!is_owner(bad), "{bad}");
        }
    }
}
