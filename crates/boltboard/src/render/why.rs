//! The chain of reasons behind a value, in words a person would use.

use boltboard_core::board::{Atom, Board, DefaultValue, NEED_PREFIX, NeedId, Rule, RuleId, RuleKind};
use boltboard_core::expr::Expr;
use boltboard_core::profile::{Choices, Layer, ProfileSource};
use boltboard_core::reason::{Blocker, Cause, Reason, Unmet};
use boltboard_core::slate::Item;
use boltboard_core::survey::Facts;

use super::survey::trouble;
use super::text::{Role, next_line, paint, wrap};
use crate::fault::chosen_at;

/// How requirements are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rules {
    /// Long ones are left out: what does not hold of them is told anyway.
    Short,
    /// All of them.
    Whole,
}

/// The longest requirement that is read at a glance.
const SHORT: usize = 90;

/// Tells a chain of reasons, one line each, what is behind it further in.
pub struct Teller<'a> {
    /// The board.
    pub board: &'a Board,
    /// The choices, for their places.
    pub choices: &'a Choices,
    /// The facts, for what was looked for.
    pub facts: &'a Facts,
    /// How requirements are written.
    pub rules: Rules,
    /// Lines told so far.
    pub text: String,
    /// What the line that begins at a place of the text is about.
    pub about: Vec<(usize, Item)>,
}

impl<'a> Teller<'a> {
    /// Nothing is told yet.
    pub fn new(board: &'a Board, choices: &'a Choices, facts: &'a Facts, rules: Rules) -> Teller<'a> {
        Teller { board, choices, facts, rules, text: String::new(), about: Vec::new() }
    }

    /// The lines, with what each is about.
    pub fn lines(&self) -> Vec<(String, Option<Item>)> {
        let mut begins = 0;
        let lines = self.text.split_inclusive('\n').map(|line| {
            let about = self.about.iter().find(|(at, _)| *at == begins).map(|(_, item)| *item);
            begins += line.len();
            (line.trim_end().to_string(), about)
        });
        lines.collect()
    }

    /// Tells a reason.
    pub fn reason(&mut self, reason: &Reason, depth: usize) {
        self.about.push((self.text.len(), Item::Option(reason.option)));
        let name = &self.board.options[reason.option].name;
        let head = format!("{} is {}", paint(Role::Name, name), paint(Role::Value, &reason.value.to_string()));
        match &reason.cause {
            Cause::Chosen(choice) => {
                let place = self.choices.files.excerpt(choice.place);
                let Layer { name: layer, source } = &self.choices.layers[choice.layer];
                let file = std::path::Path::new(&*place.file)
                    .file_name()
                    .map_or(String::new(), |n| n.to_string_lossy().into_owned());
                let chosen = if *source == ProfileSource::Kit {
                    format!("as the tree was built that this kit is of ({file}, line {})", place.line)
                } else if file == *layer {
                    format!("chosen on the {layer}")
                } else {
                    format!("chosen in the profile {layer} ({file}, line {})", place.line)
                };
                self.line(depth, &format!("{head}: {chosen}"));
                if let Some(reason) = &choice.reason {
                    self.line(depth + 1, &format!("the reason given: \"{reason}\""));
                }
            }
            Cause::PulledIn { rule, by } => {
                let by_name = &self.board.options[by.option].name;
                self.line(depth, &format!("{head}: {} requires it", paint(Role::Name, by_name)));
                self.line(depth + 1, &self.rule(*rule));
                self.reason(by, depth + 1);
            }
            Cause::Default { rule, from } => {
                let defaults = &self.board.options[reason.option].defaults;
                let default = defaults.get(*rule);
                let place = default.and_then(|d| d.place).map(|p| self.board.files.excerpt(p));
                let place = place.map_or(String::new(), |p| format!(" ({}:{})", p.file, p.line));
                let said = match default.map(|d| (&d.when, &d.value)) {
                    Some((Some(when), _)) => format!("its default while {}", self.board.print(&when.expr)),
                    Some((None, DefaultValue::Derived(_))) => "made from other values".to_string(),
                    _ if reason.value.is_off() && place.is_empty() => "off unless something requires it".to_string(),
                    _ => "its default".to_string(),
                };
                self.line(depth, &format!("{head}: {said}{}", paint(Role::Faint, &place)));
                from.iter().for_each(|source| self.reason(source, depth + 1));
            }
            Cause::Blocked { would_be, rule, blockers } => {
                self.line(depth, &format!("{head}: blocked; by default it would be {would_be}"));
                self.line(depth + 1, &self.rule(*rule));
                self.blockers(blockers, depth + 2);
            }
            Cause::Told => self.line(depth, &format!("{head} (told above)")),
            Cause::Further => {
                self.line(depth, &head);
                let next = next_line(format!("boltboard why {name}"), "what is behind that");
                self.text.push_str(&format!("{}{next}", "  ".repeat(depth + 1)));
            }
        }
    }

    /// Tells what an option that is off would need.
    pub fn unmet(&mut self, unmet: &[Unmet]) {
        for unmet in unmet {
            self.text.push_str(&format!("  {}\n", self.rule(unmet.rule)));
            self.blockers(&unmet.blockers, 2);
        }
    }

    fn blockers(&mut self, blockers: &[Blocker], depth: usize) {
        for blocker in blockers {
            match blocker {
                Blocker::Option(reason) => self.reason(reason, depth),
                Blocker::Lacking(need) => self.lacking(*need, depth),
                Blocker::Present(need) => {
                    self.about.push((self.text.len(), Item::Need(*need)));
                    self.line(depth, &format!("the need {} is met", paint(Role::Name, &self.board.needs[*need].name)));
                }
            }
        }
    }

    /// Tells what is wrong with a need; all that was tried is for `survey NEED`.
    fn lacking(&mut self, id: NeedId, depth: usize) {
        let need = &self.board.needs[id];
        let fact = self.facts.get(id);
        let state = fact.map_or_else(|| "is not met".to_string(), |fact| trouble(self.board, fact));
        let summary = if need.summary.is_empty() { String::new() } else { format!(" ({})", need.summary) };
        self.about.push((self.text.len(), Item::Need(id)));
        self.line(depth, &format!("the need {}{summary} {state}", paint(Role::Warn, &need.name)));
        let Some(fact) = fact else { return };
        let indent = "  ".repeat(depth + 1);
        let mut tell = |text: &str| {
            wrap(text, 96_usize.saturating_sub(indent.len())).iter().for_each(|line| {
                self.text.push_str(&format!("{indent}{}\n", paint(Role::Faint, line)));
            });
        };
        if let Some(chosen) = self.choices.providers.get(&id) {
            let at = chosen_at(self.choices, chosen.layer, chosen.place, chosen.reason.as_ref());
            tell(&format!("{NEED_PREFIX}{}={} is chosen {at}", need.name, chosen.provider.text(self.board)));
        }
        for evidence in &fact.evidence {
            tell(&format!("looked for {}: {}", evidence.tried, evidence.found));
        }
    }

    fn rule(&self, rule: RuleId) -> String {
        let board = self.board;
        let definition = &board.rules[rule];
        if self.rules == Rules::Whole || rule_object(board, definition).len() <= SHORT {
            return rule_words(board, rule);
        }
        let place = board.files.excerpt(definition.place);
        let (name, verb) = (&board.options[definition.option].name, rule_verb(definition.kind));
        let place = paint(Role::Faint, &format!("({}:{}; in full: --rules)", place.file, place.line));
        format!("{name} {verb} several things {place}")
    }

    fn line(&mut self, depth: usize, text: &str) {
        let lead = if depth == 0 { String::new() } else { format!("{}because ", "  ".repeat(depth)) };
        let lead = if text.starts_with("the reason given") { "  ".repeat(depth) } else { lead };
        self.text.push_str(&format!("{lead}{text}\n"));
    }
}

/// Says what a rule asks for and where it is written.
pub fn rule_words(board: &Board, rule: RuleId) -> String {
    let rule = &board.rules[rule];
    let place = board.files.excerpt(rule.place);
    let name = &board.options[rule.option].name;
    let subject = rule.value.as_ref().map_or_else(|| name.clone(), |value| format!("{name} = {value}"));
    let place = paint(Role::Faint, &format!("({}:{})", place.file, place.line));
    format!("{subject} {} {} {place}", rule_verb(rule.kind), rule_object(board, rule))
}

/// Says how a rule was written.
pub fn rule_verb(kind: RuleKind) -> &'static str {
    match kind {
        RuleKind::Requires => "requires",
        RuleKind::Conflicts => "conflicts with",
        RuleKind::Needs => "needs",
    }
}

/// Says what a rule asks for, as it was written.
pub fn rule_object(board: &Board, rule: &Rule) -> String {
    match (&rule.must, rule.kind) {
        (Expr::Not(inner), RuleKind::Conflicts) => board.print(inner),
        (Expr::Atom(Atom::Need(need)), RuleKind::Needs) => board.needs[*need].name.clone(),
        (must, _) => board.print(must),
    }
}
