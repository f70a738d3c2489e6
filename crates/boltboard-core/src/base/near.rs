//! Names that a person may have meant.

/// Returns up to three of `known` that look like `found`, best first; equal scores in alphabetical order.
pub fn near_matches<'a>(found: &str, known: impl IntoIterator<Item = &'a str>) -> Vec<String> {
    near(found, known.into_iter().collect())
}

/// One for all kinds of lists, because it is compiled for each.
fn near(found: &str, known: Vec<&str>) -> Vec<String> {
    let wanted = plain(found);
    let mut scored: Vec<(f64, &str)> = known
        .into_iter()
        .filter(|name| *name != found)
        .map(|name| (score(&wanted, &plain(name)).max(by_word(found, name)), name))
        .filter(|(score, _)| *score >= 0.66)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(b.1)));
    scored.dedup_by(|a, b| a.1 == b.1);
    scored.into_iter().take(3).map(|(_, name)| name.to_string()).collect()
}

/// A person often types one word of several.
fn by_word(found: &str, name: &str) -> f64 {
    let is_one = name.split(['-', '_', '.']).any(|word| word == found);
    if is_one && name.len() > found.len() { 0.74 } else { 0.0 }
}

fn score(wanted: &str, name: &str) -> f64 {
    let typo = strsim::normalized_damerau_levenshtein(wanted, name);
    // A person often types only the telling part of a long name.
    let part = if wanted.len() >= 4 && name.contains(wanted) { 0.75 } else { 0.0 };
    typo.max(part)
}

/// Case and separators are the commonest slips, so they do not count.
fn plain(name: &str) -> String {
    name.chars().filter(|c| !matches!(c, '-' | '_' | '.')).flat_map(char::to_lowercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_slips_and_leaves_strangers() {
        let known = ["fog-horn", "fog-bell", "lamp-led", "radio-vhf"];
        for (case, found, want) in [
            ("a letter missing", "fog-hrn", vec!["fog-horn"]),
            ("letters swapped", "fgo-horn", vec!["fog-horn"]),
            ("another separator", "fog_horn", vec!["fog-horn"]),
            ("another case", "FOG-BELL", vec!["fog-bell"]),
            ("the telling part", "horn", vec!["fog-horn"]),
            ("one short word", "vhf", vec!["radio-vhf"]),
            ("nothing like it", "banana", vec![]),
        ] {
            assert_eq!(near_matches(found, known), want, "{case}");
        }
    }
}
