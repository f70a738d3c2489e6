//! `boltboard compare`

mod told;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use boltboard_core::base::files::write_whole;
use boltboard_core::base::{Version, shell_word};
use boltboard_core::board::{Board, SectionId};
use boltboard_core::carry::{carry, renamed};
use boltboard_core::profile::{ProfileFile, ProfileName};
use boltboard_core::search::{Filter, read_filters};
use boltboard_core::session::{Memory, Planned, Resolved, Session as Core};
use boltboard_core::survey::HostRecord;
use clap::Args;

use super::inspect::{of_this_person, recorded};
use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::render::compare::{Comparison, Topic, page, text};
use crate::render::text::next_line;
use crate::session::{Session, other_version, profile_name};

/// Compare two or more profiles: what differs, and what lies behind it
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// The profiles; a single one is compared with the one in use
    #[arg(required = true, value_name = "PROFILE", add = complete::profiles())]
    profiles: Vec<String>,
    /// Compare also with the first profile on the host that FILE was saved on
    #[arg(long, value_name = "FILE")]
    with_facts: Vec<PathBuf>,
    /// Compare also with the first profile in the tree at DIR, another version of this one
    #[arg(long, value_name = "DIR")]
    with_tree: Vec<PathBuf>,
    /// Compare also with what the record of the built FILE says
    #[arg(long, value_name = "FILE")]
    with_record: Vec<PathBuf>,
    /// Show only these
    #[arg(long, value_enum, value_delimiter = ',')]
    only: Vec<Topic>,
    /// Only options of this section and of those within it
    #[arg(long, value_name = "NAME", add = complete::sections())]
    section: Option<String>,
    /// Only options, parts, sources and steps with this text in their names
    #[arg(long, value_name = "TEXT")]
    find: Option<String>,
    /// Write a page with all of it, to be opened in a browser
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
}

/// One side: a profile, resolved.
struct Compared {
    name: String,
    profile: ProfileName,
    resolved: Resolved,
    /// What is planned; only of this version of the tree.
    built: Option<Built>,
    /// The tree in another version.
    other: Option<Other>,
}

/// A plan, with what was built by it.
struct Built {
    planned: Planned,
    memory: Memory,
    /// Whether a build of this profile would go on from there.
    goes_on: bool,
}

/// The tree in another version, with the names that its options have in the latest one.
struct Other {
    core: Core,
    renamed: BTreeMap<String, String>,
}

/// Runs the command. It ends with 1 when anything differs.
pub fn run(global: &Global, screen: &Screen, args: &CompareArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let mut names = args.profiles.iter().map(|name| profile_name(name)).collect::<Result<Vec<_>, _>>()?;
    let more = !(args.with_facts.is_empty() && args.with_tree.is_empty() && args.with_record.is_empty());
    if names.len() == 1 && !more {
        names.push(session.profile.clone());
    }
    if names.windows(2).all(|pair| pair[0] == pair[1]) && !more && !global.json {
        screen.out(&format!("{} on both sides: a profile does not differ from itself.\n", names[0]));
        screen.out(&next_line("boltboard profile list", "the profiles that there are"));
        return Ok(Exit::Done);
    }
    let mut sides = Vec::new();
    for name in &names {
        sides.push(side(&session, name.to_string(), name, session.resolve_profile(name)?)?);
    }
    for file in &args.with_facts {
        let facts = HostRecord::load(file, &session.board.tree.name)?.facts(&session.board);
        let resolved = session.resolve_these(sides[0].resolved.choices.clone(), facts)?;
        let shown = file.file_stem().map_or_else(|| file.display().to_string(), |n| n.to_string_lossy().into_owned());
        sides.push(side(&session, format!("{} on {shown}", names[0]), &names[0], resolved)?);
    }
    for file in &args.with_record {
        sides.push(of_record(&session, &names[0], file)?);
    }
    for folder in &args.with_tree {
        sides.push(in_other_tree(&session, &names[0], &session.around.path_here(folder))?);
    }
    let all = told::comparison(&session, &sides, again(args))?;
    let exit = if all.differs() { Exit::No } else { Exit::Done };
    let told = narrowed(all, &session, args)?;
    if let Some(file) = &args.html {
        let path = session.around.folder.join(file);
        write_whole(&path, page(&told).as_bytes())?;
        screen.done(&format!("Wrote {}; a browser shows it.\n", file.display()), global.json);
    } else if global.json {
        screen.json(&told);
    } else {
        screen.out(&text(&told, &args.only, screen.width));
    }
    Ok(exit)
}

fn side(session: &Session, name: String, profile: &ProfileName, resolved: Resolved) -> Result<Compared, Stop> {
    let planned = session.plan_of(profile, &resolved)?;
    let memory = session.memory_of(&planned)?;
    Ok(Compared {
        name,
        profile: profile.clone(),
        resolved,
        built: Some(Built { planned, memory, goes_on: true }),
        other: None,
    })
}

/// The profile in another version of the tree; to a later one it is carried over.
fn in_other_tree(session: &Session, profile: &ProfileName, folder: &Path) -> Result<Compared, Stop> {
    let core = other_version(session, folder)?;
    let told = |fault| Stop::of(fault, Some(&core));
    let draft = session.shelf.flatten(profile, profile, &session.board);
    let text = draft.map_err(|fault| super::profile::told(fault, session))?.text();
    let here = &session.board.tree.version;
    let later = Version::new(&core.board.tree.version) > Version::new(here);
    let text = text_for(&core.board, text, here);
    let read = core.shelf.read_with(profile, &[(profile.clone(), text)].into(), &core.board);
    let choices = read.map_err(|wrong| told(wrong.into()))?;
    let facts = core.facts(&choices).map_err(told)?;
    let resolved = core.resolve(choices, facts).map_err(told)?;
    let renamed = if later { BTreeMap::new() } else { renamed(&session.board) };
    let name = format!("{profile} in {}", core.board.tree.version);
    Ok(Compared { name, profile: profile.clone(), resolved, built: None, other: Some(Other { core, renamed }) })
}

/// What the record of a built file says: its choices, with what its maker's host had.
fn of_record(session: &Session, profile: &ProfileName, file: &Path) -> Result<Compared, Stop> {
    let record = recorded(session, file)?;
    let text = text_for(&session.board, of_this_person(session, &record, profile).text, &record.version);
    let own = ProfileName::parse(&record.profile).unwrap_or_else(|| profile.clone());
    let choices = session.choices_as(&own, &text)?;
    let facts = session.facts(&choices)?.as_told(&session.board, &record.facts);
    let name = format!("the record of {}", file.file_name().unwrap_or(file.as_os_str()).to_string_lossy());
    let mut of_record = side(session, name, profile, session.resolve_these(choices, facts)?)?;
    // It was built elsewhere.
    of_record.built.iter_mut().for_each(|built| built.goes_on = false);
    Ok(of_record)
}

/// A profile's text as a version of the tree takes it: to a later one it is carried over.
fn text_for(board: &Board, text: String, from: &str) -> String {
    let to = &board.tree.version;
    if Version::new(to) > Version::new(from) {
        let carried = carry(&text, Some(from), board, &mut |_| None);
        return carried.map_or(text, |written| written.text);
    }
    // An earlier version takes nothing that was written for a later one; that its options are known is seen when it is read.
    ProfileFile::of_text(Path::new(""), &text).map_or(text, |mut file| {
        file.set_version(to);
        file.text()
    })
}

/// The command without what only shows some of it.
fn again(args: &CompareArgs) -> String {
    let mut words = vec!["boltboard compare".to_string()];
    words.extend(args.profiles.iter().map(|name| shell_word(name)));
    words
        .extend(args.with_facts.iter().map(|file| format!("--with-facts {}", shell_word(&file.display().to_string()))));
    words.extend(
        args.with_record.iter().map(|file| format!("--with-record {}", shell_word(&file.display().to_string()))),
    );
    words.extend(args.with_tree.iter().map(|dir| format!("--with-tree {}", shell_word(&dir.display().to_string()))));
    words.join(" ")
}

/// Keeps what a person asked to see.
fn narrowed(mut told: Comparison, session: &Session, args: &CompareArgs) -> Result<Comparison, Stop> {
    if let Some(section) = &args.section {
        let wanted = names_in_section(&session.board, section)?;
        told.values.retain(|value| wanted.contains(&value.option));
        told.causes
            .retain(|cause| wanted.contains(&cause.name) || cause.moves.iter().any(|moved| wanted.contains(moved)));
    }
    if let Some(text) = &args.find {
        let has = |name: &String| name.to_lowercase().contains(&text.to_lowercase());
        told.values.retain(|value| has(&value.option) || value.summary.to_lowercase().contains(&text.to_lowercase()));
        told.causes.retain(|cause| has(&cause.name) || cause.moves.iter().any(has));
        told.parts.retain(|part| has(&part.part));
        told.contents.retain(|one| has(&one.part) || one.left_sources.iter().chain(&one.right_sources).any(has));
        for steps in &mut told.steps {
            for list in [&mut steps.left_only, &mut steps.right_only, &mut steps.differ, &mut steps.unknown] {
                list.retain(has);
            }
        }
    }
    Ok(told)
}

fn names_in_section(board: &Board, section: &str) -> Result<BTreeSet<String>, Stop> {
    let (filters, _) = read_filters(board, &[format!("in:{section}")])?;
    let within = |at: SectionId| {
        let path = board.section_path(at);
        filters.iter().all(|filter| matches!(filter, Filter::In(section) if path.contains(section)))
    };
    Ok(board.options.iter().filter(|(_, option)| within(option.section)).map(|(_, o)| o.name.clone()).collect())
}
