//! A tree that has moved on is drawn again: what was drawn before, what a person made of it, and what is drawn now are merged, key by key.

use toml_edit::{DocumentMut, Item, Table};

/// What came of merging.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Again {
    /// The definitions' file.
    pub text: String,
    /// What was taken over from the new drawing, a line each.
    pub taken: Vec<String>,
    /// What a person and the new drawing both changed: the person's stays, and the other stands above it.
    pub conflicts: Vec<String>,
}

/// Merges three texts of one description.
///
/// # Errors
/// One of them is no TOML; the error says which and why.
pub fn again(before: &str, mine: &str, now: &str) -> Result<Again, String> {
    let read = |what: &str, text: &str| text.parse::<DocumentMut>().map_err(|e| format!("{what}: {e}"));
    let (before, now) = (read("what was drawn before", before)?, read("what is drawn now", now)?);
    let mut mine = read("the description", mine)?;
    let mut merge = Merge { again: Again::default() };
    merge.tables(before.as_table(), mine.as_table_mut(), now.as_table(), "");
    Ok(Again { text: mine.to_string(), ..merge.again })
}

struct Merge {
    again: Again,
}

/// A value as it is compared: without the blanks and comments around it.
fn plain(item: &Item) -> String {
    let mut item = item.clone();
    if let Some(value) = item.as_value_mut() {
        value.decor_mut().clear();
    }
    item.to_string().split_whitespace().collect::<Vec<_>>().join(" ")
}

impl Merge {
    fn tables(&mut self, before: &Table, mine: &mut Table, now: &Table, path: &str) {
        let empty = Table::new();
        let mut keys: Vec<String> = Vec::new();
        for key in now.iter().chain(before.iter()).map(|(key, _)| key.to_string()) {
            if !keys.contains(&key) {
                keys.push(key);
            }
        }
        for key in keys {
            let place = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
            let (old, new) = (before.get(&key), now.get(&key));
            if let Some(new) = new.and_then(Item::as_table)
                && mine.get(&key).is_some_and(Item::is_table)
            {
                let old = old.and_then(Item::as_table).unwrap_or(&empty);
                if let Some(own) = mine.get_mut(&key).and_then(Item::as_table_mut) {
                    self.tables(old, own, new, &place);
                }
                continue;
            }
            self.item(old, mine, new, &key, &place);
        }
    }

    fn item(&mut self, old: Option<&Item>, mine: &mut Table, new: Option<&Item>, key: &str, place: &str) {
        let (was, is) = (old.map(plain), new.map(plain));
        let own = mine.get(key).map(plain);
        if was == is || own == is {
            return;
        }
        if own == was {
            match new {
                Some(item) => {
                    let mut item = item.clone();
                    if let Some(table) = item.as_table_mut() {
                        // Where it stood there says nothing here.
                        table.set_position(None);
                    }
                    self.again.taken.push(format!("{} {place}", if was.is_none() { "new:" } else { "changed:" }));
                    match (mine.get_mut(key), item.as_value()) {
                        // What stands around the value is the person's.
                        (Some(Item::Value(known)), Some(value)) => {
                            let decor = known.decor().clone();
                            *known = value.clone();
                            *known.decor_mut() = decor;
                        }
                        _ => {
                            mine.insert(key, item);
                        }
                    }
                }
                None => {
                    self.again.taken.push(format!("gone: {place}"));
                    mine.remove(key);
                }
            }
            return;
        }
        let drawn = match &is {
            Some(text) => format!("drawn again as: {}", text.lines().next().unwrap_or_default()),
            None => "not seen any more".to_string(),
        };
        self.again.conflicts.push(format!("{place}: {drawn}"));
        let comment = format!("# {drawn}\n");
        match mine.get_mut(key) {
            Some(Item::Table(table)) => {
                let known = table.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or("\n").to_string();
                if !known.contains(&comment) {
                    table.decor_mut().set_prefix(format!("{known}{comment}"));
                }
            }
            Some(_) => {
                if let Some(mut known) = mine.key_mut(key) {
                    let prefix =
                        known.leaf_decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or("").to_string();
                    if !prefix.contains(&comment) {
                        known.leaf_decor_mut().set_prefix(format!("{prefix}{comment}"));
                    }
                }
            }
            // The person has removed it, and it stays removed.
            None => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BEFORE: &str = "# drawn\nformat = 1\n\n[part.a]\nkind = \"program\"\nsources = [\"a.c\"]\nlibraries = [\"m\"]\n\n[part.b]\nkind = \"program\"\n";

    #[test]
    fn what_only_one_side_changed_is_taken_and_nothing_of_the_person_is_lost() {
        let mine = BEFORE
            .replace("[part.a]", "# my own words\n[part.a]")
            .replace("libraries = [\"m\"]", "libraries = [\"m\", \"rt\"]   # for clocks");
        let now = BEFORE
            .replace("[\"a.c\"]", "[\"a.c\", \"c.c\"]")
            .replace("[part.b]\nkind = \"program\"\n", "[part.d]\nkind = \"objects\"\n");
        let merged = again(BEFORE, &mine, &now).unwrap();
        assert_eq!(merged.conflicts, Vec::<String>::new());
        assert_eq!(merged.taken, ["changed: part.a.sources", "new: part.d", "gone: part.b"]);
        for text in ["# my own words", "libraries = [\"m\", \"rt\"]   # for clocks", "[\"a.c\", \"c.c\"]", "[part.d]"] {
            assert!(merged.text.contains(text), "no {text} in\n{}", merged.text);
        }
        assert!(!merged.text.contains("part.b"));
        // Once more, there is nothing to do.
        let once = again(&now, &merged.text, &now).unwrap();
        assert_eq!((once.text, once.taken.len()), (merged.text, 0));
    }

    #[test]
    fn what_both_changed_stands_side_by_side() {
        let mine = BEFORE
            .replace("[\"a.c\"]", "[\"mine.c\"]")
            .replace("[part.b]\nkind = \"program\"", "[part.b]\nkind = \"objects\"");
        let now = BEFORE.replace("[\"a.c\"]", "[\"theirs.c\"]").replace("\n[part.b]\nkind = \"program\"\n", "");
        let merged = again(BEFORE, &mine, &now).unwrap();
        assert_eq!(merged.conflicts.len(), 2, "{:?}", merged.conflicts);
        assert!(merged.text.contains("# drawn again as: [\"theirs.c\"]\nsources = [\"mine.c\"]"), "{}", merged.text);
        assert!(merged.text.contains("# not seen any more\n[part.b]"), "{}", merged.text);
        assert!(again(BEFORE, "no toml [", BEFORE).unwrap_err().starts_with("the description"));
    }
}
