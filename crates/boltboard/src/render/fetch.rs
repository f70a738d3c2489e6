//! What the tree uses and does not carry.

use boltboard_core::board::{Board, FetchDef, FetchId};
use boltboard_core::fetch::{FetchState, GotFrom};
use boltboard_core::session::{FetchStanding, Resolved, Session};
use serde::Serialize;

use super::text::{Cell, Role, bytes, columns, count, next_line, paint};

/// Lists everything, with what the values want of it.
pub fn listed(
    session: &Session,
    resolved: &Resolved,
    standings: &[FetchStanding],
    meant: &[FetchStanding],
    width: usize,
) -> String {
    let board = &session.board;
    if standings.is_empty() {
        return format!("{} carries all that it uses: nothing is fetched.\n", board.tree.name);
    }
    let row = |one: &FetchStanding| -> Vec<Cell> {
        let def = &board.fetches[one.fetch];
        let (role, state) = match one.state {
            FetchState::InTree => (Role::Good, "in the tree".to_string()),
            FetchState::Kept => (Role::Good, "fetched".to_string()),
            _ if !one.is_wanted => (Role::Faint, format!("not wanted{}", unmet(board, resolved, def))),
            FetchState::Begun(there) => (Role::Warn, format!("to get, {} are there", bytes(there))),
            FetchState::Absent => (Role::Warn, "to get".to_string()),
        };
        vec![
            (Role::Name, def.name.clone()),
            (Role::Faint, bytes(def.size)),
            (role, state),
            (Role::Faint, def.into.to_string()),
            (Role::Faint, def.summary.clone()),
        ]
    };
    let rows: Vec<Vec<Cell>> = standings.iter().map(row).collect();
    let text = columns(&rows, 0, width);
    let open: Vec<&FetchStanding> = meant.iter().filter(|one| !one.state.is_there()).collect();
    if open.is_empty() {
        return text + &next_line("boltboard build", "all that the values want is there");
    }
    let size: u64 = open.iter().map(|one| missing(board, one)).sum();
    let what = format!("get {}, {}", count(open.len(), "file", "files"), bytes(size));
    text + &next_line("boltboard fetch", what)
}

fn unmet(board: &Board, resolved: &Resolved, def: &FetchDef) -> String {
    let option = def.when.as_ref().and_then(|when| super::names::options_of(&when.expr).into_iter().next());
    option.map_or(String::new(), |option| {
        format!(": {} is {}", board.options[option].name, resolved.resolution.value(option))
    })
}

fn missing(board: &Board, one: &FetchStanding) -> u64 {
    let there = match one.state {
        FetchState::Begun(there) => there,
        FetchState::InTree | FetchState::Kept | FetchState::Absent => 0,
    };
    board.fetches[one.fetch].size.saturating_sub(there)
}

/// Says what was got.
pub fn got(board: &Board, meant: &[FetchStanding], origins: &[(FetchId, GotFrom)]) -> String {
    if board.fetches.is_empty() {
        return format!("{} carries all that it uses: nothing is fetched.\n", board.tree.name);
    }
    let mut text = String::new();
    for (fetch, origin) in origins {
        let def = &board.fetches[*fetch];
        let from = match origin {
            GotFrom::Kept => "it was there".to_string(),
            GotFrom::Folder(file) => format!("from {}", file.display()),
            GotFrom::Address(address) => format!("from {address}"),
        };
        text += &format!("{} {} ({}), {from}\n", paint(Role::Good, "Fetched:"), def.name, bytes(def.size));
    }
    let before = meant.iter().filter(|one| origins.iter().all(|(fetch, _)| *fetch != one.fetch));
    let before = before.filter(|one| one.state.is_there()).count();
    if before > 0 {
        text += &format!("{before} of {} there already.\n", count(meant.len(), "file was", "files were"));
    }
    text
}

/// Everything, as JSON.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct FetchAnswer<'b> {
    format: u32,
    files: Vec<FileTold<'b>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FileTold<'b> {
    name: &'b str,
    summary: &'b str,
    wanted: bool,
    state: &'static str,
    size: u64,
    there: u64,
    sha256: String,
    into: String,
    from: &'b [String],
    fetched_from: Option<String>,
}

impl<'b> FetchAnswer<'b> {
    /// Makes the answer.
    pub fn of(board: &'b Board, standings: &[FetchStanding], origins: &[(FetchId, GotFrom)]) -> FetchAnswer<'b> {
        let file = |one: &FetchStanding| {
            let def = &board.fetches[one.fetch];
            let (state, there) = match one.state {
                FetchState::InTree => ("in-tree", def.size),
                FetchState::Kept => ("fetched", def.size),
                FetchState::Begun(there) => ("begun", there),
                FetchState::Absent => ("absent", 0),
            };
            let origin = origins.iter().find(|(fetch, _)| *fetch == one.fetch).map(|(_, origin)| origin);
            let fetched_from = origin.and_then(|origin| match origin {
                GotFrom::Kept => None,
                GotFrom::Folder(file) => Some(file.display().to_string()),
                GotFrom::Address(address) => Some(address.clone()),
            });
            FileTold {
                name: &def.name,
                summary: &def.summary,
                wanted: one.is_wanted,
                state,
                size: def.size,
                there,
                sha256: def.sha256.to_string(),
                into: def.into.to_string(),
                from: &def.from,
                fetched_from,
            }
        };
        FetchAnswer { format: super::json::FORMAT, files: standings.iter().map(file).collect() }
    }
}
