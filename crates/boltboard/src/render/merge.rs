//! What came of a merge.

use boltboard_core::board::Board;
use boltboard_core::profile::{Join, Joined, Merged, ProfileName, Said, Subject};

use super::text::{Cell, Role, columns, count, next_line};

/// Renders it: first what a person has to decide about, else what was taken from where.
pub fn text(board: &Board, merged: &Merged, names: &[ProfileName; 3], to: &ProfileName, width: usize) -> String {
    let clashes: Vec<&Joined> = merged.clashes().collect();
    let from = |join: Join| merged.joined.iter().filter(|joined| joined.join == join).collect::<Vec<_>>();
    let [base, left, right] = names;
    let mut text = String::new();
    if !clashes.is_empty() {
        let number = count(clashes.len(), "choice was changed", "choices were changed");
        text += &format!("{number} by both {left} and {right}, to something else each:\n");
        text += &columns(&table(board, &clashes, names), 2, width);
        text += "Nothing was written. Say what is to be:\n";
        let first = clashes[0].subject.name(board);
        let value = clashes[0].said[1].as_ref().or(clashes[0].said[2].as_ref()).map_or("", |said| &said.text);
        let command = format!("boltboard profile merge {base} {left} {right} --into {to}");
        text += &next_line(format!("{command} --prefer {left}"), format!("take {left}'s for all of them"));
        if !matches!(clashes[0].subject, Subject::Change(_)) {
            text += &next_line(format!("{command} --choose {first}={value}"), "decide about one");
        }
        return text;
    }
    text +=
        &format!("Made the profile {to} of {left} and {right}, which came from {base}. Its choices hold together.\n");
    let parts = [
        (Join::Left, format!("from {left}")),
        (Join::Right, format!("from {right}")),
        (Join::Alike, "changed alike by both".to_string()),
        (Join::Settled, "changed by both; as you said".to_string()),
    ];
    for (join, title) in parts {
        let joined = from(join);
        if !joined.is_empty() {
            text += &format!("{}, {title}:\n", count(joined.len(), "choice", "choices"));
            text += &columns(&table(board, &joined, names), 2, width);
        }
    }
    if merged.joined.is_empty() {
        text += "  All three say the same.\n";
    }
    text += &next_line(format!("boltboard compare {left} {to}"), "what that makes of it");
    text
}

fn table(board: &Board, joined: &[&Joined], names: &[ProfileName; 3]) -> Vec<Vec<Cell>> {
    let head = ["", names[0].as_str(), names[1].as_str(), names[2].as_str(), ""];
    let mut rows = vec![head.map(|cell| (Role::Faint, cell.to_string())).to_vec()];
    for one in joined {
        let said = |said: &Option<Said>| said.as_ref().map_or("-".to_string(), |said| said.text.clone());
        let reason = |at: usize| {
            let reason = one.said[at].as_ref()?.reason.as_ref()?;
            Some(format!("{}: \"{reason}\"", names[at]))
        };
        let reasons: Vec<String> = [1, 2].into_iter().filter_map(reason).collect();
        let mut row = vec![(Role::Name, one.subject.name(board))];
        let shorten = |text: String| match one.subject {
            Subject::Change(_) => text.chars().take(8).collect(),
            Subject::Option(_) | Subject::Need(_) => text,
        };
        row.extend(one.said.iter().map(|one| (Role::Value, shorten(said(one)))));
        row.push((Role::Faint, reasons.join("; ")));
        rows.push(row);
    }
    rows
}
