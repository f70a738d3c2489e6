//! Which licences a package comes under, for people to read.

use std::collections::BTreeMap;
use std::path::Path;

use super::parcel::Parcel;
use crate::board::PartDef;
use crate::plan::PlanInput;

/// What stands where nobody says it.
const NOT_TOLD: &str = "not told";

/// The parts that are made and have a licence of their own, with it.
pub(super) fn licensed<'b>(input: &PlanInput<'b>) -> Vec<(&'b PartDef, &'b str)> {
    let board = input.board;
    let made = board.parts.iter().filter(|(_, part)| input.is_made(part));
    made.filter_map(|(_, part)| Some((part, part.license.as_deref()?))).collect()
}

/// Writes the list: what the tree says, what parts say that come from elsewhere, and where those of needed packages stand.
pub(super) fn list(parcel: &Parcel, input: &PlanInput<'_>, root: &Path) -> String {
    let tree = &*input.board.delivered();
    let mut by_license: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let own = tree.license.as_deref().unwrap_or(NOT_TOLD);
    by_license.entry(own).or_default().push(format!("{}: all that is not named here", tree.name));
    for (part, license) in licensed(input) {
        let summary = if part.summary.is_empty() { String::new() } else { format!(": {}", part.summary) };
        by_license.entry(license).or_default().push(format!("{}{summary}", part.name));
    }
    let mut text = format!("Licences of {} {}\n", parcel.name, parcel.version);
    for (license, what) in by_license {
        text += &format!("\n{license}\n");
        what.iter().for_each(|one| text += &format!("  {one}\n"));
    }
    let owners = parcel.needed.owners();
    if !owners.is_empty() {
        text += "\nNeeded packages, with licences of their own\n";
    }
    for owner in owners {
        let file = Path::new("/usr/share/doc").join(owner).join("copyright");
        let below = file.strip_prefix("/").unwrap_or(&file);
        let place = if root.join(below).exists() { format!(": {}", file.display()) } else { String::new() };
        text += &format!("  {owner}{place}\n");
    }
    text
}
