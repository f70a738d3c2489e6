//! From deeds to what a person would have written: parts with their sources and flags, what generates files, what the host must have.

use std::collections::{BTreeMap, BTreeSet};

use super::delivered::Delivered;
use super::draw::Theirs;
use super::made::Made;
use super::names::{NameClash, PartNames, compilers, free_name, part_names, set_name, tree_name, version};
use super::needs::{DrawnNeed, Host, Libraries, Linked, libraries, plain_name};
use super::paths::{absolute, base_name, folder_name};
use super::questions::NamesAnswer;
use super::story::{Join, JoinKind, Story};
use super::ways::Ways;
use super::words::{Word, is_source};
use crate::remedy::Family;

/// Flags of a compiler that also say how it links.
const ALSO_OF_LINKS: [&str; 9] =
    ["-pthread", "-fopenmp", "-flto", "-fsanitize", "-fuse-ld", "-m32", "-m64", "--coverage", "-fprofile"];

/// What a part is, as it was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum PartForm {
    Objects,
    Static,
    Shared,
    Program,
    Partial,
}

impl PartForm {
    pub fn word(self) -> &'static str {
        match self {
            PartForm::Objects => "objects",
            PartForm::Static => "static-library",
            PartForm::Shared => "shared-library",
            PartForm::Program => "program",
            PartForm::Partial => "partial-link",
        }
    }
}

/// One source of a part.
#[derive(Debug, Clone)]
pub(super) struct DrawnSource {
    /// Below the tree, or below what is generated.
    pub path: String,
    pub generated: bool,
    pub ways: Ways,
    /// The watched build's object.
    pub object: Theirs,
    pub is_cxx: bool,
}

/// One part.
#[derive(Debug, Clone)]
pub(super) struct DrawnPart {
    pub name: String,
    pub form: PartForm,
    pub sources: Vec<DrawnSource>,
    pub uses: Vec<String>,
    /// Libraries and other words of the link, by what they are.
    pub link_flags: Vec<String>,
    pub libraries: Vec<String>,
    pub needs: Vec<String>,
    /// The file that it makes, where that does not follow from its name.
    pub output: Option<String>,
    pub abi: Option<String>,
    /// The watched build's file; a set of objects has none.
    pub file: Option<Theirs>,
    /// What that was called when it was linked.
    pub linked: Option<String>,
    /// Whether something that can lie anywhere is made of it.
    pub into_shared: bool,
}

/// Objects that are of the same links and archives; of sources that are in it already, the next.
type Group = (BTreeSet<usize>, usize);

/// All that was drawn.
#[derive(Debug)]
pub(super) struct Model {
    pub name: String,
    pub version: Option<String>,
    /// Names that several parts would have.
    pub clashes: Vec<NameClash>,
    pub compilers: (String, String),
    pub parts: Vec<DrawnPart>,
    pub needs: Vec<DrawnNeed>,
    /// How our files call the family of distributions that packages are of.
    pub family: &'static str,
    pub made: Made,
    pub delivered: Delivered,
}

impl Model {
    pub fn of(story: &mut Story<'_>, host: &Host, answer: Option<&NamesAnswer>) -> Model {
        let made = Made::of(story);
        let mut objects = Objects::new();
        for (at, compile) in story.compiles.iter().enumerate() {
            objects.entry(compile.object.clone()).or_default().push(at);
        }
        let inputs: Vec<Inputs> = (0..story.joins.len()).map(|at| inputs_of(story, &objects, at)).collect();
        let linked: Linked = inputs.iter().flat_map(|inputs| inputs.libraries.iter().cloned()).collect();
        let found = libraries(host, &linked, &made.host_headers, &all_flags(story));
        let PartNames { names, clashes } = part_names(story, &made, answer);
        let groups = groups_of(story, &inputs);
        let mut taken: BTreeSet<String> = names.iter().cloned().collect();
        taken.extend(made.generated.iter().map(|part| part.name.clone()));
        let mut sets: BTreeMap<&Group, String> = BTreeMap::new();
        for (group, objects) in groups.iter().filter(|((joins, again), _)| joins.len() > 1 || *again > 0) {
            let own: Vec<&str> = group.0.iter().map(|join| names[*join].as_str()).collect();
            sets.insert(group, free_name(set_name(story, &own, objects), &mut taken));
        }
        let mut parts = Vec::new();
        for (group, name) in &sets {
            let sources = sources_of(story, &made, &groups[*group]);
            let uses = generated_for(story, &made, &groups[*group]);
            parts.push(DrawnPart { sources, uses, ..empty_part(name, PartForm::Objects) });
        }
        for (at, join) in story.joins.iter().enumerate() {
            let own = (BTreeSet::from([at]), 0);
            let objects = groups.get(&own).cloned().unwrap_or_default();
            let of_sets = sets.iter().filter(|((joins, _), _)| joins.contains(&at)).map(|(_, name)| name.clone());
            let mut uses: Vec<String> = of_sets.collect();
            uses.extend(inputs[at].products.iter().map(|product| names[*product].clone()));
            uses.extend(generated_for(story, &made, &objects));
            uses.extend(inputs[at].reads.iter().filter_map(|path| made.part_of(path)).map(str::to_string));
            let part = empty_part(&names[at], form_of(join.kind));
            let part = DrawnPart { sources: sources_of(story, &made, &objects), uses: distinct(uses), ..part };
            let file = story.last_name(&join.output);
            let mut part = with_link(part, join, &file, &inputs[at], &found);
            let place = story.in_tree(&file).unwrap_or(&file);
            if clashes.iter().any(|clash| clash.files.iter().any(|other| other == place)) {
                apart(&mut part, place);
            }
            parts.push(part);
        }
        if story.joins.is_empty() && !story.compiles.is_empty() {
            parts = by_folder(story, &made, &mut taken);
        }
        spread_shared(&mut parts);
        let parts = in_order(parts);
        Model {
            name: tree_name(story),
            version: version(story),
            clashes,
            compilers: compilers(story),
            parts,
            needs: found.needs.into_values().collect(),
            family: host.distribution.family.map_or("", Family::key),
            delivered: Delivered::of(story, &made),
            made,
        }
    }
}

/// Gives a part whose file has the name of another one's a place of its own, unless it has the place that its own name gives it.
fn apart(part: &mut DrawnPart, place: &str) {
    let Some((top, file)) = part.output.as_ref().and_then(|output| output.rsplit_once('/')) else { return };
    let folder = folder_name(place);
    part.output = Some(format!("{top}/{folder}/{file}")).filter(|_| !folder.is_empty()).or(part.output.take());
}

/// Objects by who is made of them.
fn groups_of(story: &Story<'_>, inputs: &[Inputs]) -> BTreeMap<Group, Vec<usize>> {
    let mut users: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    for (join, inputs) in inputs.iter().enumerate() {
        for object in &inputs.objects {
            users.entry(*object).or_default().insert(join);
        }
    }
    // A source that was compiled several times for the same is in several sets.
    let mut groups: BTreeMap<Group, Vec<usize>> = BTreeMap::new();
    for (object, joins) in users {
        let source = &story.compiles[object].source;
        let has = |group: &Group| {
            groups.get(group).is_some_and(|own| own.iter().any(|at| story.compiles[*at].source == *source))
        };
        let again = (0..).find(|again| !has(&(joins.clone(), *again))).unwrap_or(0);
        groups.entry((joins, again)).or_default().push(object);
    }
    groups
}

/// Where no link is known, the sources of each folder are a set of objects.
fn by_folder(story: &mut Story<'_>, made: &Made, taken: &mut BTreeSet<String>) -> Vec<DrawnPart> {
    story.doubt("links", "none is known: which programs and libraries are made of these objects?");
    let mut folders: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (at, compile) in story.compiles.iter().enumerate() {
        let path = story.in_tree(&compile.source).unwrap_or(&compile.source);
        folders.entry(folder_name(path).to_string()).or_default().push(at);
    }
    let part = |(folder, objects): (String, Vec<usize>)| {
        let name = if folder.is_empty() { "root".into() } else { plain_name(&folder) };
        let name = free_name(format!("{name}-objects"), taken);
        let (sources, uses) = (sources_of(story, made, &objects), generated_for(story, made, &objects));
        DrawnPart { sources, uses, ..empty_part(&name, PartForm::Objects) }
    };
    folders.into_iter().map(part).collect()
}

/// Parts with what they use before them, else by name: the order in which things ran says nothing.
fn in_order(mut parts: Vec<DrawnPart>) -> Vec<DrawnPart> {
    parts.sort_by(|a, b| (a.form != PartForm::Objects, &a.name).cmp(&(b.form != PartForm::Objects, &b.name)));
    let names: BTreeSet<String> = parts.iter().map(|part| part.name.clone()).collect();
    let (mut done, mut ordered): (BTreeSet<String>, Vec<DrawnPart>) = Default::default();
    while !parts.is_empty() {
        let free = |part: &DrawnPart| part.uses.iter().all(|used| done.contains(used) || !names.contains(used));
        // A ring is written as it comes.
        let next = parts.iter().position(free).unwrap_or(0);
        let part = parts.remove(next);
        done.insert(part.name.clone());
        ordered.push(part);
    }
    ordered
}

fn empty_part(name: &str, form: PartForm) -> DrawnPart {
    DrawnPart {
        name: name.to_string(),
        form,
        sources: vec![],
        uses: vec![],
        link_flags: vec![],
        libraries: vec![],
        needs: vec![],
        output: None,
        abi: None,
        file: None,
        linked: None,
        into_shared: form == PartForm::Shared,
    }
}

fn form_of(kind: JoinKind) -> PartForm {
    match kind {
        JoinKind::Archive => PartForm::Static,
        JoinKind::Program => PartForm::Program,
        JoinKind::Shared => PartForm::Shared,
        JoinKind::Partial => PartForm::Partial,
    }
}

fn distinct(list: Vec<String>) -> Vec<String> {
    let mut seen = BTreeSet::new();
    list.into_iter().filter(|item| seen.insert(item.clone())).collect()
}

/// What comes into a shared library must be able to lie anywhere.
fn spread_shared(parts: &mut [DrawnPart]) {
    loop {
        let shared: BTreeSet<String> =
            parts.iter().filter(|part| part.into_shared).flat_map(|part| part.uses.iter().cloned()).collect();
        let mut more = false;
        for part in parts.iter_mut().filter(|part| matches!(part.form, PartForm::Objects | PartForm::Static)) {
            more |= !part.into_shared && shared.contains(&part.name);
            part.into_shared |= shared.contains(&part.name);
        }
        if !more {
            return;
        }
    }
}

/// Compiles, by their objects.
type Objects = BTreeMap<String, Vec<usize>>;

/// What a link or archive is made of.
#[derive(Debug, Default)]
struct Inputs {
    objects: Vec<usize>,
    products: Vec<usize>,
    /// Libraries of the host, with their files.
    libraries: Vec<(String, Option<String>)>,
    /// Files that are neither, as words.
    others: Vec<String>,
    /// Made files among what it read.
    reads: BTreeSet<String>,
}

fn inputs_of(story: &mut Story<'_>, objects: &Objects, at: usize) -> Inputs {
    let join = story.joins[at].clone();
    let compile_of = |story: &Story<'_>, path: &str| {
        let all = objects.get(path)?;
        all.iter()
            .copied()
            .filter(|object| story.compiles[*object].at <= join.at)
            .max_by_key(|object| story.compiles[*object].at)
    };
    let mut inputs = Inputs::default();
    for object in &join.own {
        inputs.objects.extend(compile_of(story, object));
    }
    for word in &join.run.words {
        match word {
            Word::Input(file) if is_source(file) => {}
            Word::Input(file) => {
                let path = absolute(&join.folder, file);
                let origin = story.origin(&path, join.at);
                if let Some(object) = compile_of(story, &path).or_else(|| compile_of(story, &origin)) {
                    inputs.objects.push(object);
                } else if let Some(product) = story.product(&path).or_else(|| story.product(&origin)) {
                    inputs.products.push(product);
                } else {
                    if file.ends_with(".o") || file.ends_with(".a") {
                        story.doubt(&path, "it lay there before, or nobody saw how it was made; it is linked as it is");
                    }
                    inputs.others.push(story.in_tree(&path).map_or(path.clone(), str::to_string));
                }
            }
            Word::Library(name) => {
                let files = [format!("lib{name}.so"), format!("lib{name}.a")];
                let of_name = |path: &&String| {
                    let file = base_name(path);
                    files.iter().any(|name| file == name || file.starts_with(&format!("{name}.")))
                };
                let opened: Vec<&String> = join.reads.iter().filter(of_name).collect();
                let product = opened.iter().find_map(|path| story.product(&story.origin(path, join.at)));
                match product {
                    Some(product) => inputs.products.push(product),
                    None => inputs.libraries.push((name.clone(), opened.last().map(ToString::to_string))),
                }
            }
            _ => {}
        }
    }
    inputs.objects.dedup();
    let is_input = |path: &String| story.product(path).is_some() || compile_of(story, path).is_some();
    inputs.reads = join.reads.iter().filter(|path| story.is_made(path) && !is_input(path)).cloned().collect();
    inputs
}

fn with_link(mut part: DrawnPart, join: &Join, path: &str, inputs: &Inputs, found: &Libraries) -> DrawnPart {
    for (library, _) in &inputs.libraries {
        match found.needs.get(library) {
            Some(need) => part.needs.push(need.name.clone()),
            None if matches!(library.as_str(), "c" | "gcc" | "gcc_s" | "stdc++") => {}
            None => part.libraries.push(library.clone()),
        }
    }
    part.needs = distinct(part.needs);
    part.libraries = distinct(part.libraries);
    let mut soname = None;
    for word in &join.run.words {
        match word {
            Word::Link(words) => {
                let text = words.join(" ");
                if let Some(name) = text.strip_prefix("-Wl,-soname,").or_else(|| text.strip_prefix("-Wl,-soname=")) {
                    soname = Some(name.to_string());
                } else if let Some(name) = text.strip_prefix("-Wl,-h,") {
                    soname = Some(name.to_string());
                } else if !matches!(text.as_str(), "-shared" | "-r") && !text.contains("-rpath") {
                    part.link_flags.extend(words.iter().map(|word| relative(word, join)));
                }
            }
            Word::Flag(words) if ALSO_OF_LINKS.iter().any(|flag| words[0].starts_with(flag)) => {
                part.link_flags.extend(words.iter().cloned());
            }
            _ => {}
        }
    }
    part.link_flags = distinct(part.link_flags);
    part.link_flags.extend(inputs.others.iter().cloned());
    let file = base_name(path);
    // A library's file begins with `lib` once, whether or not its name does.
    let short = part.name.strip_prefix("lib").unwrap_or(&part.name);
    let usual = match part.form {
        PartForm::Objects | PartForm::Program => part.name.clone(),
        PartForm::Static => format!("lib{short}.a"),
        PartForm::Shared => format!("lib{short}.so"),
        PartForm::Partial => format!("{}.o", part.name),
    };
    let version = soname.as_ref().and_then(|soname| soname.strip_prefix(&format!("{usual}."))).map(str::to_string);
    if part.form == PartForm::Shared && file.starts_with(&format!("{usual}.")) && version.is_some() {
        part.abi = version;
    } else if file != usual {
        let folder = match part.form {
            PartForm::Static | PartForm::Shared => "lib",
            PartForm::Program => "bin",
            PartForm::Objects | PartForm::Partial => "lib",
        };
        part.output = Some(format!("{folder}/{file}"));
    }
    part.linked = Some(join.output.clone());
    part.file = Some(Theirs { path: path.to_string(), command: join.command.clone() });
    part
}

/// A word of a link in which a path counts from the tree, as our links run there.
fn relative(word: &str, join: &Join) -> String {
    let Some((flag, path)) = word.split_once('=').or_else(|| word.rsplit_once(',')) else { return word.to_string() };
    let sign = &word[flag.len()..=flag.len()];
    let absolute = absolute(&join.folder, path);
    match join.reads.contains(&absolute) {
        true => format!("{flag}{sign}{absolute}"),
        false => word.to_string(),
    }
}

fn sources_of(story: &Story<'_>, made: &Made, objects: &[usize]) -> Vec<DrawnSource> {
    let mut sources: Vec<DrawnSource> = objects
        .iter()
        .map(|at| {
            let compile = &story.compiles[*at];
            let source = story.origin(&compile.source, compile.at);
            let generated = made.reach(&source).map(str::to_string);
            let is_generated = generated.is_some();
            let path = generated.unwrap_or_else(|| story.in_tree(&source).map_or(source.clone(), str::to_string));
            let is_cxx = compile.is_cxx();
            let ways = Ways::of(compile, story);
            let object = Theirs { path: compile.object.clone(), command: compile.command.clone() };
            DrawnSource { path, generated: is_generated, ways, object, is_cxx }
        })
        .collect();
    sources.sort_by(|a, b| (a.generated, &a.path).cmp(&(b.generated, &b.path)));
    sources
}

/// The generated parts whose files some compiles read.
fn generated_for(story: &Story<'_>, made: &Made, objects: &[usize]) -> Vec<String> {
    let mut names = BTreeSet::new();
    for at in objects {
        let compile = &story.compiles[*at];
        for path in compile.reads.iter().chain([&compile.source]) {
            names.extend(made.part_of(&story.origin(path, compile.at)).map(str::to_string));
        }
    }
    names.into_iter().collect()
}

fn all_flags(story: &Story<'_>) -> BTreeSet<String> {
    let words = story.compiles.iter().flat_map(|compile| &compile.run.words);
    words
        .filter_map(|word| match word {
            Word::Define(text) => Some(format!("-D{text}")),
            Word::Include(flag, folder) => Some(format!("{flag}{folder}")),
            Word::Flag(words) => Some(words.join(" ")),
            _ => None,
        })
        .collect()
}
