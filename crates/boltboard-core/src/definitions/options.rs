//! `[option.NAME]`.

use std::collections::HashSet;
use std::sync::Arc;

use super::entry::{Entry, MacroHabit, RuleSink, check_c_name};
use super::fields::{Fields, Found, Text};
use super::lookup::Names;
use super::problem::{Fault, Problem};
use crate::board::{
    Atom, Condition, DecidedBy, DefaultRule, DefaultValue, Kind, Level, MacroDef, MacroForm, OptionDef, OptionId,
    PartId, PickValue, Rule, RuleKind, SectionId, read_size,
};
use crate::expr::Expr;

/// Reads an option's kind, with its values and range. A wrong one is reported and read as a switch.
pub(super) fn kind(fields: &Fields<'_>) -> Kind {
    let Some(kind) = fields.required_text("kind") else { return Kind::Switch };
    match kind.text.as_str() {
        "switch" => Kind::Switch,
        "module" => Kind::Module,
        "pick" => pick(fields),
        "number" => {
            let (low, high) = range(fields, |found| found.integer(), "two whole numbers");
            Kind::Number(low.unwrap_or(i64::MIN)..=high.unwrap_or(i64::MAX))
        }
        "size" => {
            let bytes = |found: &Found<'_>| {
                found.integer().and_then(|n| u64::try_from(n).ok()).or_else(|| read_size(&found.text()?.text))
            };
            let (low, high) = range(fields, bytes, "two sizes");
            Kind::Size(low.unwrap_or(0)..=high.unwrap_or(u64::MAX))
        }
        "text" => Kind::Text,
        "path" => Kind::Path,
        "words" => Kind::Words(fields.texts("values").into_iter().map(|t| t.text).collect()),
        _ => {
            fields.wrong_word("kind", &kind, Kind::NAMES.to_vec());
            Kind::Switch
        }
    }
}

fn pick(fields: &Fields<'_>) -> Kind {
    let mut values: Vec<PickValue> = Vec::new();
    let mut met: HashSet<String> = HashSet::new();
    for found in fields.list("values") {
        let value = match (found.text(), fields.sub(&found, "a value")) {
            (Some(text), _) => Some((text, String::new())),
            (None, Some(sub)) => sub.required_text("name").map(|name| (name, sub.text_or_empty("summary"))),
            (None, None) => {
                fields.wrong_type(&found, "a string or { name = \"…\", summary = \"…\" }");
                None
            }
        };
        let Some((name, summary)) = value else { continue };
        if name.text.is_empty() || name.text.contains(|c: char| c.is_control() || c.is_whitespace()) {
            fields.problem(name.place, Fault::BadName(name.text.clone()));
        } else if !met.insert(name.text.clone()) {
            fields.problem(name.place, Fault::Twice { what: "value", name: name.text.clone() });
        }
        values.push(PickValue { name: name.text, summary });
    }
    if values.is_empty() {
        fields.missing("values");
    }
    Kind::Pick(values)
}

fn range<T: PartialOrd + Copy>(
    fields: &Fields<'_>,
    read: impl Fn(&Found<'_>) -> Option<T>,
    expected: &str,
) -> (Option<T>, Option<T>) {
    let Some(found) = fields.get("range") else { return (None, None) };
    let ends: Option<Vec<T>> = found.members().and_then(|members| members.iter().map(read).collect());
    match ends.as_deref() {
        Some([low, high]) if low <= high => return (Some(*low), Some(*high)),
        Some([_, _]) => {
            fields.problem(found.place, Fault::Combination("the range is empty: its start is above its end".into()))
        }
        _ => fields.wrong_type(&found, expected),
    }
    (None, None)
}

/// Reads an option.
pub(super) fn option(
    entry: &Entry<'_>,
    id: OptionId,
    fallback_section: SectionId,
    names: &Names,
    habit: Option<&MacroHabit>,
    sink: &mut RuleSink,
) -> OptionDef {
    let fields = entry.fields("option");
    let log = fields.log();
    let kind = names.kinds[id.index()].clone();
    // Read before all names were known; asked for here so that they count as known keys.
    for key in ["kind", "values", "range", "accept"] {
        fields.get(key);
    }
    // These are read when all names are known, and only of the few options that have them.
    // Each key is asked for, so that each counts as known.
    let has = |keys: &[&'static str]| keys.iter().filter(|key| fields.get(key).is_some()).count() > 0;
    sink.with_past.extend(has(&super::history::KEYS).then_some(id));
    sink.with_signs.extend(has(&super::history::SIGN_KEYS).then_some(id));
    if fields.get("range").is_some() && !kind.is_number() {
        let text = format!("a {} has no range", kind.name());
        fields.problem(fields.place, Fault::Combination(text));
    }
    if fields.get("values").is_some() && !kind.has_list() {
        let text = format!("a {} has no list of values", kind.name());
        fields.problem(fields.place, Fault::Combination(text));
    }
    let section = fields.text("section").map(Arc::new).or_else(|| entry.default_section.clone());
    let section = section.and_then(|text| names.sections.find(&text, log)).unwrap_or(fallback_section);
    let on_off = kind.is_on_off();
    let mut asked = Asked { names, fields: &fields, option: id, value: None, rules: Vec::new() };
    asked.read_all();
    let conditions = asked.rules;
    let mut applies_while = None;
    if on_off {
        conditions.into_iter().for_each(|rule| sink.add(rule));
    } else if let Some(first) = conditions.first() {
        let place = first.place;
        let expr = Expr::all(conditions.into_iter().map(|rule| rule.must));
        applies_while = expr.map(|expr| Condition { expr, place });
    }
    if matches!(kind, Kind::Pick(_)) {
        pick_rules(&fields, id, names, sink);
    }
    let decided_by = if fields.flag("derived") { DecidedBy::Others } else { DecidedBy::People };
    let option = OptionDef {
        name: entry.name.text.clone(),
        summary: fields.text_or_empty("summary"),
        help: fields.text_or_empty("help").trim().to_string(),
        section,
        level: level(&fields, decided_by),
        decided_by,
        defaults: defaults(&fields, id, &kind, names),
        applies_while,
        rules: sink.take(),
        macros: macros(&fields, &entry.name.text, &kind, names, habit),
        place: entry.name.place,
        kind,
    };
    fields.finish();
    option
}

/// What an option, or one value of a pick, asks for.
struct Asked<'a, 'f> {
    names: &'a Names,
    fields: &'a Fields<'f>,
    option: OptionId,
    value: Option<String>,
    rules: Vec<Rule>,
}

impl Asked<'_, '_> {
    fn read_all(&mut self) {
        for text in self.fields.texts("requires") {
            if let Some(condition) = self.names.condition(&text, self.fields.log()) {
                self.add(condition.expr, RuleKind::Requires, &text);
            }
        }
        for text in self.fields.texts("conflicts") {
            if let Some(condition) = self.names.condition(&text, self.fields.log()) {
                self.add(Expr::Not(Box::new(condition.expr)), RuleKind::Conflicts, &text);
            }
        }
        for text in self.fields.texts("needs") {
            if let Some(need) = self.names.needs.find(&text, self.fields.log()) {
                self.add(Expr::Atom(Atom::Need(need)), RuleKind::Needs, &text);
            }
        }
    }

    fn add(&mut self, must: Expr<Atom>, kind: RuleKind, text: &Text) {
        self.rules.push(Rule { option: self.option, value: self.value.clone(), must, kind, place: text.place });
    }
}

fn pick_rules(fields: &Fields<'_>, option: OptionId, names: &Names, sink: &mut RuleSink) {
    for found in fields.list("values") {
        let Some(sub) = fields.sub(&found, "a value") else { continue };
        let Some(name) = sub.text("name") else { continue };
        sub.get("summary");
        let mut asked = Asked { names, fields: &sub, option, value: Some(name.text), rules: Vec::new() };
        asked.read_all();
        asked.rules.into_iter().for_each(|rule| sink.add(rule));
        sub.finish();
    }
}

fn level(fields: &Fields<'_>, decided_by: DecidedBy) -> Level {
    let usual = match decided_by {
        DecidedBy::People => Level::Everyday,
        DecidedBy::Others | DecidedBy::Kit => Level::Expert,
    };
    fields.word("level", &Level::ALL).unwrap_or(usual)
}

fn defaults(fields: &Fields<'_>, option: OptionId, kind: &Kind, names: &Names) -> Vec<DefaultRule> {
    let mut rules = Vec::new();
    if let Some(found) = fields.get("default") {
        let members = found.members().filter(|m| m.iter().any(Found::is_table));
        for member in members.unwrap_or_else(|| vec![found]) {
            if let Some(sub) = fields.sub(&member, "a default") {
                let when = names.when(&sub);
                if let Some(value) = sub.get("value") {
                    rules.extend(default_rule(&sub, option, &value, when, kind, names));
                } else {
                    sub.problem(sub.place, Fault::Missing { key: "value", context: sub.context.to_string() });
                }
                sub.finish();
            } else {
                rules.extend(default_rule(fields, option, &member, None, kind, names));
            }
        }
    }
    if rules.last().is_none_or(|rule| rule.when.is_some()) {
        rules.push(DefaultRule { when: None, value: DefaultValue::Fixed(kind.own_default()), place: None });
    }
    rules
}

fn default_rule(
    fields: &Fields<'_>,
    option: OptionId,
    found: &Found<'_>,
    when: Option<Condition>,
    kind: &Kind,
    names: &Names,
) -> Option<DefaultRule> {
    let Some(text) = names.value_text(option, found) else {
        fields.wrong_type(found, &format!("a value in quotes: {}", kind.expected()));
        return None;
    };
    let place = Some(text.place);
    if text.text.contains("${") && kind.can_be_derived() {
        let interp = names.interp(&text, fields.log())?;
        return Some(DefaultRule { when, value: DefaultValue::Derived(interp), place });
    }
    match kind.read(&text.text) {
        Ok(value) => Some(DefaultRule { when, value: DefaultValue::Fixed(value), place }),
        Err(fault) => {
            let near = fault.near.clone();
            let fault = Fault::Value { option: fields.context.to_string(), fault };
            fields.log().add(Problem::at(text.place, fault).with_near(near));
            None
        }
    }
}

fn macros(fields: &Fields<'_>, option: &str, kind: &Kind, names: &Names, habit: Option<&MacroHabit>) -> Vec<MacroDef> {
    let Some(found) = fields.get("macro") else {
        let Some(habit) = habit.filter(|h| !h.prefix.is_empty()) else { return Vec::new() };
        let upper = option.to_ascii_uppercase().replace('-', "_");
        let name = format!("{}{upper}", habit.prefix);
        return own_forms(kind, &name, habit);
    };
    let mut macros = Vec::new();
    for member in found.members().unwrap_or_else(|| vec![found]) {
        if let Some(text) = member.text() {
            check_c_name(fields, &text);
            match habit {
                Some(habit) => macros.extend(own_forms(kind, &text.text, habit)),
                None => fields
                    .problem(text.place, Fault::Combination("a macro needs a [header.NAME] to be written to".into())),
            }
        } else if let Some(sub) = fields.sub(&member, "a macro") {
            macros.extend(one_macro(&sub, kind, names, habit));
            sub.finish();
        } else {
            fields.wrong_type(&member, "a name or { name = \"…\", form = \"…\" }");
        }
    }
    macros
}

fn one_macro(sub: &Fields<'_>, kind: &Kind, names: &Names, habit: Option<&MacroHabit>) -> Option<MacroDef> {
    let name = sub.required_text("name")?;
    check_c_name(sub, &name);
    let parts: Vec<PartId> = sub.texts("parts").iter().filter_map(|text| names.parts.find(text, sub.log())).collect();
    let sets: Vec<u32> = sub
        .texts("sets")
        .iter()
        .filter_map(|text| names.sets.find(text, sub.log()))
        .filter_map(|set| u32::try_from(set.index()).ok())
        .collect();
    let scoped = !parts.is_empty() || !sets.is_empty();
    let header = match sub.text("header") {
        Some(text) if scoped => {
            let text_fault = "a macro is in a header or given to parts; `header`, or `parts` and `sets`, goes";
            sub.problem(text.place, Fault::Combination(text_fault.into()));
            None
        }
        None if scoped => None,
        Some(text) => names.headers.find(&text, sub.log()),
        None => habit.map(|h| h.header),
    };
    let form = match (sub.text("form"), sub.text("value")) {
        (None, Some(value)) if !matches!(kind, Kind::Pick(_)) => {
            let text = format!("`value` names a value of a pick; the macro of a {} has a `form`", kind.name());
            sub.problem(value.place, Fault::Combination(text));
            return None;
        }
        (None, Some(value)) => {
            if let Err(fault) = kind.read(&value.text) {
                let near = fault.near.clone();
                sub.log()
                    .add(Problem::at(value.place, Fault::Value { option: "this pick".into(), fault }).with_near(near));
            }
            MacroForm::PickIs(value.text)
        }
        (Some(text), _) => match MacroForm::NAMED.iter().find(|(name, _)| *name == text.text) {
            Some((_, form)) if form.fits(kind) => form.clone(),
            Some(_) => {
                let forms =
                    MacroForm::NAMED.iter().filter(|(_, form)| form.fits(kind)).map(|(name, _)| format!("`{name}`"));
                let forms: Vec<String> = forms.collect();
                let text = format!("`{}` is no form for a {}; it has {}", text.text, kind.name(), forms.join(", "));
                sub.problem(sub.place, Fault::Combination(text));
                return None;
            }
            None => {
                sub.wrong_word("form", &text, MacroForm::NAMED.iter().map(|(name, _)| *name).collect());
                return None;
            }
        },
        (None, None) => kind.usual_form(habit.is_some_and(|h| h.zero)),
    };
    Some(MacroDef { name: name.text, header, parts, sets, form, when: names.when(sub) })
}

/// A pick has a macro for each of its values; every other kind has one.
fn own_forms(kind: &Kind, name: &str, habit: &MacroHabit) -> Vec<MacroDef> {
    let one = |name: String, form| MacroDef {
        name,
        header: Some(habit.header),
        parts: vec![],
        sets: vec![],
        form,
        when: None,
    };
    match kind {
        Kind::Pick(values) => values
            .iter()
            .map(|value| {
                let upper: String = value.name.to_ascii_uppercase();
                let upper: String = upper.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
                one(format!("{name}_{upper}"), MacroForm::PickIs(value.name.clone()))
            })
            .collect(),
        Kind::Module if !habit.modules.is_empty() => {
            habit.modules.iter().map(|(form, pattern)| one(pattern.replace('*', name), form.clone())).collect()
        }
        other => vec![one(name.to_string(), other.usual_form(habit.zero))],
    }
}
