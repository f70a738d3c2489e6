//! What definitions say about earlier versions: `since`, `was` and `changed` of options, `[split.NAME]` and `[gone.NAME]`.

use std::collections::{BTreeMap, HashMap};

use super::entry::Entry;
use super::fields::{Fields, Log, Text};
use super::lookup::Names;
use super::problem::{Fault, Problem};
use crate::base::Place;
use crate::board::{ANY_VALUE, ChangedValues, Gone, History, OLD_VALUE, OptionId, OptionPast, Signs, Split};

/// The keys of an option that are read here.
pub(super) const KEYS: [&str; 3] = ["since", "was", "changed"];

/// The keys of an option that say what shows that it is used.
pub(super) const SIGN_KEYS: [&str; 2] = ["serves", "shown-by"];

/// Reads what shows that options are used.
pub(super) fn signs(options: &[Entry<'_>], with_signs: &[OptionId]) -> BTreeMap<OptionId, Signs> {
    let mut signs = BTreeMap::new();
    for option in with_signs {
        let entry = &options[option.index()];
        let fields = entry.fields("option");
        let serves = fields.texts("serves");
        for pattern in &serves {
            if let Err(fault) = globset::Glob::new(&pattern.text) {
                fields.problem(pattern.place, Fault::Combination(format!("`{}` is no pattern: {fault}", pattern.text)));
            }
        }
        let shown_by = fields.texts("shown-by");
        for name in shown_by.iter().filter(|name| name.text.contains('/') && !name.text.starts_with('/')) {
            let text = "a name without a folder, or an absolute path, is wanted";
            fields.problem(name.place, Fault::Combination(text.into()));
        }
        let texts = |list: Vec<Text>| list.into_iter().map(|text| text.text).collect();
        signs.insert(*option, Signs { serves: texts(serves), shown_by: texts(shown_by) });
    }
    signs
}

/// Reads all of it.
pub(super) fn history(
    (options, with_past): (&[Entry<'_>], &[OptionId]),
    split: &[Entry<'_>],
    gone: &[Entry<'_>],
    names: &Names,
    log: &Log,
) -> History {
    let mut history = History::default();
    let mut old: HashMap<String, Place> = HashMap::new();
    let mut take = |name: &Text| {
        if names.options.has(&name.text) {
            let text = format!("there is an option `{}`, so that is no name of the past", name.text);
            log.add(Problem::at(name.place, Fault::Combination(text)));
        } else if let Some(first) = old.insert(name.text.clone(), name.place) {
            let fault = Fault::Twice { what: "old name", name: name.text.clone() };
            log.add(Problem { related: Some(first), ..Problem::at(name.place, fault) });
        }
    };
    for option in with_past {
        let entry = &options[option.index()];
        let fields = entry.fields("option");
        let was = fields.texts("was");
        was.iter().for_each(&mut take);
        let past = OptionPast {
            since: fields.text("since").map(|text| text.text),
            was: was.into_iter().map(|text| text.text).collect(),
            changed: changed(&fields, *option, names),
        };
        history.options.insert(*option, past);
    }
    for entry in split {
        take(&entry.name);
        let fields = entry.fields("split");
        let split = Split {
            since: fields.text("since").map(|text| text.text),
            note: fields.text_or_empty("note"),
            into: into(&fields, names),
        };
        if split.into.is_empty() {
            fields.missing("into");
        }
        fields.finish();
        history.split.insert(entry.name.text.clone(), split);
    }
    for entry in gone {
        take(&entry.name);
        let fields = entry.fields("gone");
        let note = fields.required_text("note").map_or(String::new(), |text| text.text);
        let gone = Gone { since: fields.text("since").map(|text| text.text), note };
        fields.finish();
        history.gone.insert(entry.name.text.clone(), gone);
    }
    history
}

fn changed(fields: &Fields<'_>, option: OptionId, names: &Names) -> Option<ChangedValues> {
    let found = fields.get("changed")?;
    let Some(table) = fields.sub(&found, "changed") else {
        fields.wrong_type(&found, "{ in = \"3.0\", values = { old = \"new\" } }");
        return None;
    };
    let version = table.required_text("in").map_or(String::new(), |text| text.text);
    let mut values = BTreeMap::new();
    if let Some(found) = table.get("values") {
        let Some(pairs) = table.sub(&found, "values") else {
            table.wrong_type(&found, "{ old = \"new\" }");
            return None;
        };
        for (old, new) in pairs.texts_by_key() {
            let Some(new) = new else {
                fields.problem(old.place, Fault::Combination("the new value in quotes is wanted".into()));
                continue;
            };
            check_value(option, &new, names, fields.log());
            values.insert(old.text, new.text);
        }
    }
    let factor = |key: &'static str| {
        let number = table.integer(key).unwrap_or(1);
        if number < 1 {
            table.problem(table.place, Fault::Combination(format!("`{key}` is a whole number from 1 on")));
        }
        number.max(1)
    };
    let (times, per) = (factor("times"), factor("per"));
    if values.is_empty() && times == per {
        table.missing("values");
    }
    table.finish();
    Some(ChangedValues { version, values, times, per })
}

fn check_value(option: OptionId, value: &Text, names: &Names, log: &Log) {
    if let Err(fault) = names.kinds[option.index()].read(&value.text) {
        let near = fault.near.clone();
        log.add(Problem::at(value.place, Fault::Combination(format!("the option {fault}"))).with_near(near));
    }
}

fn into(fields: &Fields<'_>, names: &Names) -> BTreeMap<String, Vec<String>> {
    let mut into = BTreeMap::new();
    let Some(found) = fields.get("into") else { return into };
    let expected = "{ on = [\"first=on\", \"second=on\"], \"*\" = [\"first=${value}\"] }";
    let Some(table) = fields.sub(&found, "into") else {
        fields.wrong_type(&found, expected);
        return into;
    };
    for (value, found) in table.members_by_key() {
        let texts: Vec<Text> = match found.text() {
            Some(text) => vec![text],
            None => found.members().into_iter().flatten().filter_map(|member| member.text()).collect(),
        };
        for text in &texts {
            let Some((name, new)) = text.text.split_once('=') else {
                fields.problem(text.place, Fault::Combination("a choice such as first=on is wanted".into()));
                continue;
            };
            let name = Text { text: name.trim().to_string(), place: text.place };
            let Some(option) = names.options.find(&name, fields.log()) else { continue };
            if !new.contains(OLD_VALUE) {
                let new = Text { text: new.trim().to_string(), place: text.place };
                check_value(option, &new, names, fields.log());
            }
        }
        if value.text.is_empty() && texts.is_empty() {
            fields.problem(value.place, Fault::Combination(format!("a value, or \"{ANY_VALUE}\" for any, is wanted")));
        }
        into.insert(value.text, texts.into_iter().map(|text| text.text).collect());
    }
    into
}
