//! Records in files of all forms, whole, damaged and hostile.

use std::path::PathBuf;

use super::elf::{Text, addition as add};
use super::*;

fn record() -> Record {
    let mut record = Record::new("skerry", "2.4", "skerryd", "program", "mine", Covers::All);
    record.off = vec!["fog".into()];
    record.choices.insert("lamp".into(), Said::Text("led".into()));
    record.choices.insert("horn".into(), Said::Text("on".into()));
    record.values.insert("watts".into(), Said::Number(60));
    record.values.insert("extra".into(), Said::Words(vec!["-O2".into(), "\"a\"".into()]));
    record
}

/// An ELF file with nothing in it but the names of its sections.
fn elf(wide: bool, little: bool) -> Vec<u8> {
    let number = |value: u64, bytes: usize| -> Vec<u8> {
        let all = value.to_le_bytes()[..bytes].to_vec();
        if little { all } else { all.into_iter().rev().collect() }
    };
    let word = if wide { 8 } else { 4 };
    let names = b"\0.shstrtab\0";
    let header = if wide { 64 } else { 52 };
    let row = if wide { 64 } else { 40 };
    let table = header + 16;
    let mut file = vec![0x7f, b'E', b'L', b'F', if wide { 2 } else { 1 }, if little { 1 } else { 2 }, 1];
    file.resize(16, 0);
    let fields = [(3, 2), (62, 2), (1, 4), (0, word), (0, word), (table as u64, word), (0, 4), (header as u64, 2)];
    let rest = [(0, 2), (0, 2), (row as u64, 2), (2, 2), (1, 2)];
    fields.iter().chain(&rest).for_each(|(value, bytes)| file.extend(number(*value, *bytes)));
    assert_eq!(file.len(), header);
    file.extend(names);
    file.resize(table + row, 0);
    let fields = [(1, 4), (3, 4), (0, word), (0, word), (header as u64, word), (names.len() as u64, word)];
    fields.iter().for_each(|(value, bytes)| file.extend(number(*value, *bytes)));
    file.resize(table + 2 * row, 0);
    file
}

fn with(file: &[u8], text: &[u8]) -> Vec<u8> {
    carrying(file, Text::Plain(text))
}

fn addition(file: &[u8], text: Text<'_>) -> Option<super::elf::Addition> {
    add(file, &[(SECTION, text)])
}

fn records_in(bytes: &[u8]) -> Vec<Result<Record, RecordFault>> {
    super::records_in(bytes, &std::collections::BTreeMap::new())
}

fn carrying(file: &[u8], text: Text<'_>) -> Vec<u8> {
    let added = addition(file, text).expect("it can carry a record");
    [&added.head[..], &file[added.head.len()..], &added.tail].concat()
}

fn marked(file: &[u8]) -> Record {
    let digest = crate::base::Digest::of(&file[64..]).to_string();
    Record { file: Some(FileMark { bytes: file.len() as u64, digest }), ..record() }
}

fn archive(members: &[(&str, &[u8])]) -> Vec<u8> {
    let mut bytes = b"!<arch>\n".to_vec();
    for (name, content) in members {
        let name = format!("{name}/");
        bytes.extend(format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 644, content.len()).bytes());
        bytes.extend(*content);
        bytes.resize(bytes.len().next_multiple_of(2), b'\n');
    }
    bytes
}

fn seen(bytes: &[u8]) -> Result<Vec<Seen>, ReadFault> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("file");
    std::fs::write(&file, bytes).unwrap();
    read_records(&file)
}

fn one(bytes: &[u8]) -> Seen {
    let mut all = seen(bytes).expect("it is read");
    assert_eq!(all.len(), 1, "{all:?}");
    all.remove(0)
}

fn fault(text: &[u8]) -> RecordFault {
    let mut all = records_in(text);
    assert_eq!(all.len(), 1, "{all:?}");
    all.remove(0).expect_err("it is none")
}

#[test]
fn a_record_is_read_as_it_was_written() {
    let text = framed(&record().text());
    assert_eq!(records_in(text.as_bytes()), [Ok(record())]);
    assert_eq!(record().value("fog"), Some(Said::Text("off".into())));
    assert_eq!(record().value("lamp"), Some(Said::Text("led".into())));
    assert_eq!(record().value("watts"), Some(Said::Number(60)));
    assert_eq!(record().value("nothing"), None);
    // A choice without effect counts as off.
    let idle = Record { off: vec!["horn".into()], ..record() };
    assert_eq!(idle.value("horn"), Some(Said::Text("off".into())));
    assert_eq!(idle.all_values()["horn"], Said::Text("off".into()));
}

#[test]
fn every_form_of_file_carries_one_and_is_otherwise_as_it_was() {
    for (wide, little) in [(true, true), (true, false), (false, true), (false, false)] {
        let file = elf(wide, little);
        let record = marked(&file);
        let carrying = with(&file, framed(&record.text()).as_bytes());
        let found = one(&carrying);
        assert_eq!((found.record, found.standing), (Ok(record), Standing::AsMade), "{wide} {little}");
        // Nothing moves: only where the table of sections is.
        let header = if wide { 64 } else { 52 };
        assert_eq!(carrying[header..file.len()], file[header..]);
        assert_eq!(carrying[..16], file[..16]);
    }
}

#[test]
fn a_packed_record_is_small_and_read_alike() {
    let file = elf(true, true);
    let mut record = marked(&file);
    (0..2000).for_each(|n| record.off.push(format!("option-number-{n}")));
    let text = framed(&record.text());
    let carrying = carrying(&file, Text::Packed(&Packed::of(text.as_bytes())));
    assert!(carrying.len() - file.len() < text.len() / 3, "{} for {}", carrying.len(), text.len());
    assert_eq!(one(&carrying).record, Ok(record));
}

#[test]
fn what_many_records_say_alike_lies_beside_them() {
    let file = elf(true, true);
    let rest = Rest { off: vec!["fog".into()], values: [("watts".to_string(), Said::Number(60))].into() };
    let text = framed(&rest.text());
    let digest = crate::base::Digest::of(rest.text().as_bytes()).to_string();
    let own = Record { off: vec![], values: Default::default(), rest: Some(digest), ..record() };
    let carried = |rest: &str| {
        let (own, packed) = (framed(&own.text()), Packed::of(rest.as_bytes()));
        let sections = [(SECTION, Text::Plain(own.as_bytes())), (REST, Text::Packed(&packed))];
        let added = add(&file, &sections).expect("it can carry both");
        [&added.head[..], &file[added.head.len()..], &added.tail].concat()
    };
    let whole = Record { off: rest.off.clone(), values: rest.values.clone(), ..record() };
    assert_eq!(one(&carried(&text)).record, Ok(whole));
    let other = framed(&Rest::default().text());
    for wrong in ["", "something else", &other, &text.replacen("fog", "fag", 1)] {
        assert!(matches!(one(&carried(wrong)).record, Err(RecordFault::Damaged(_))), "{wrong}");
    }
}

#[test]
fn an_archive_carries_it_as_one_member_more() {
    for name in [&b"odd"[..], b"even"] {
        let objects = archive(&[("a.txt", name), ("a.o", &elf(true, true)), ("b.o", &elf(true, true))]);
        let record = marked(&objects);
        let carrying = with(&objects, framed(&record.text()).as_bytes());
        assert_eq!(carrying[..objects.len()], objects[..]);
        let found = one(&carrying);
        assert_eq!((found.member, found.record, found.standing), (None, Ok(record), Standing::AsMade));
    }
    // An object in it may have one of its own.
    let inner = with(&elf(true, true), framed(&marked(&elf(true, true)).text()).as_bytes());
    let found = one(&archive(&[("inner.o", &inner)]));
    assert_eq!(found.member.as_deref(), Some("inner.o"));
}

#[test]
fn what_cannot_carry_one_is_left_as_it_is() {
    let none = archive(&[("notes.txt", b"text")]);
    for bytes in [&b"#!/bin/sh\n"[..], b"", &none, &elf(true, true)[..60]] {
        assert_eq!(addition(bytes, Text::Plain(b"text")), None);
    }
    // No table of sections at all.
    let mut bare = elf(true, true);
    bare[0x28..0x30].fill(0);
    bare[0x3c..0x40].fill(0);
    assert_eq!(addition(&bare, Text::Plain(b"text")), None);
}

#[test]
fn files_without_one_say_so() {
    assert_eq!(seen(&elf(true, true)).unwrap(), []);
    assert_eq!(seen(&archive(&[("a.o", &elf(true, true))])).unwrap(), []);
    assert!(matches!(seen(b"#!/bin/sh\n"), Err(ReadFault::NotBuilt(_))));
    assert!(matches!(seen(b""), Err(ReadFault::NotBuilt(_))));
    assert!(matches!(read_records(&PathBuf::from("/dev/zero")), Err(ReadFault::NotAFile { .. })));
    assert!(matches!(read_records(std::path::Path::new("/")), Err(ReadFault::NotAFile { .. })));
    assert!(matches!(read_records(&PathBuf::from("/nothing/here")), Err(ReadFault::File(_))));
}

#[test]
fn a_file_that_was_changed_since_is_known() {
    let file = elf(true, true);
    let mut carrying = with(&file, framed(&marked(&file).text()).as_bytes());
    carrying[file.len() - 100] ^= 1;
    assert_eq!(one(&carrying).standing, Standing::Changed);
    let plain = with(&file, framed(&record().text()).as_bytes());
    assert_eq!(one(&plain).standing, Standing::NotTold);
}

#[test]
fn several_lie_side_by_side_as_linkers_put_them() {
    let (first, second) = (framed(&record().text()), framed(&Record { part: "lamp".into(), ..record() }.text()));
    let both = [first.as_bytes(), &[0; 7], second.as_bytes(), &[0]].concat();
    let parts: Vec<String> = records_in(&both).into_iter().map(|record| record.unwrap().part).collect();
    assert_eq!(parts, ["skerryd", "lamp"]);
    // A damaged one does not hide the next.
    let hurt = first.replacen("skerryd", "skerryx", 1);
    let found = records_in(&[hurt.as_bytes(), second.as_bytes()].concat());
    assert!(matches!(found[..], [Err(RecordFault::Damaged(_)), Ok(_)]), "{found:?}");
    let many = first.repeat(100);
    let found = records_in(many.as_bytes());
    assert_eq!((found.len(), found.last().unwrap().clone().unwrap_err()), (65, RecordFault::TooMany));
}

#[test]
fn damage_and_lies_are_told() {
    let text = framed(&record().text());
    assert!(matches!(fault(&text.as_bytes()[..text.len() - 1]), RecordFault::Damaged(_)));
    assert!(matches!(fault(b"something else"), RecordFault::Damaged(_)));
    assert!(matches!(fault(b"# boltboard record 1: "), RecordFault::Damaged(_)));
    assert!(matches!(fault(b"# boltboard record 1: x bytes, y\n"), RecordFault::Damaged(_)));
    assert_eq!(fault(b"# boltboard record 1: 99999999999 bytes, y\n"), RecordFault::TooLong);
    assert_eq!(fault(framed("format = 7").as_bytes()), RecordFault::Later(7));
    for wrong in ["format = 1", "format = [", "tree = 'x'", "format = 1\ntree = 3", &"[".repeat(100_000)] {
        assert!(matches!(fault(framed(wrong).as_bytes()), RecordFault::Damaged(_)), "{:.20}", wrong);
    }
    assert!(records_in(&[0; 100]).is_empty() && records_in(b"").is_empty());
}

#[test]
fn lengths_that_a_file_claims_are_not_believed() {
    let file = elf(true, true);
    let text = framed(&Record { off: vec!["x".repeat(9000)], ..record() }.text());
    let packed = Packed::of(text.as_bytes());
    for text in [Text::Plain(text.as_bytes()), Text::Packed(&packed)] {
        hurt_everywhere(&file, &carrying(&file, text));
    }
}

fn hurt_everywhere(file: &[u8], whole: &[u8]) {
    // Each byte behind the file is made wrong in turn: whatever comes of it, it comes back.
    let mut faults = 0;
    let step = (whole.len() - file.len()).div_ceil(400);
    for at in (file.len()..whole.len()).step_by(step).chain(0..64) {
        for bits in [0xff, 0x80, 0x01] {
            let mut hurt = whole.to_vec();
            hurt[at] ^= bits;
            let found = seen(&hurt);
            faults += usize::from(!matches!(found.as_deref(), Ok([Seen { record: Ok(_), .. }])));
        }
    }
    assert!(faults > 150, "{faults}");
}

fn inspected(bytes: &[u8]) -> Inspected {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("file");
    std::fs::write(&file, bytes).unwrap();
    let mut all = inspect(&file);
    assert_eq!(all.len(), 1, "{all:?}");
    Inspected { name: "file".into(), ..all.remove(0) }
}

fn bearing(records: &[&Record]) -> Inspected {
    let texts: String = records.iter().map(|record| framed(&record.text())).collect();
    inspected(&with(&elf(true, true), texts.as_bytes()))
}

#[test]
fn a_question_has_one_answer() {
    let mut record = record();
    record.values.insert("none".into(), Said::Words(Vec::new()));
    record.values.insert("zero".into(), Said::Number(0));
    record.values.insert("blank".into(), Said::Text(String::new()));
    let file = bearing(&[&record]);
    for (question, yes, value) in [
        ("lamp", true, "led"),
        ("lamp=led", true, "led"),
        ("lamp=LED", false, "led"),
        ("lamp=", false, "led"),
        ("horn", true, "on"),
        ("fog", false, "off"),
        ("fog=off", true, "off"),
        ("watts", true, "60"),
        ("watts=60", true, "60"),
        ("watts=060", false, "60"),
        ("zero", true, "0"),
        ("blank", false, ""),
        ("blank=", true, ""),
        ("none", false, ""),
    ] {
        assert_eq!(file.has(question), Ok(Answer { yes, value: value.into() }), "{question}");
    }
    let told = file.has("lmap").unwrap_err();
    assert!(matches!(&told, AskFault::UnknownOption { near, .. } if near == &["lamp"]), "{told}");
}

#[test]
fn records_that_contradict_each_other_are_told_from_those_that_agree() {
    let one = record();
    let mut other = record();
    other.choices.insert("horn".into(), Said::Text("off".into()));
    let both = bearing(&[&one, &other]);
    assert_eq!(both.has("lamp=led").map(|answer| answer.yes), Ok(true), "of this they say the same");
    let told = both.has("horn").unwrap_err().to_string();
    assert_eq!(told, "file has 2 records, and they contradict each other about `horn`");
    assert!(matches!(both.of_tree("skerry"), Err(AskFault::Contradict { count: 2, .. })));
    // What only one of them knows is no answer of the file.
    other.choices.insert("radar".into(), Said::Text("on".into()));
    assert!(matches!(bearing(&[&one, &other]).has("radar"), Err(AskFault::UnknownOption { .. })));
    assert_eq!(bearing(&[&one, &one]).of_tree("skerry"), Ok(&one));
    // A damaged one beside a whole one takes nothing away from it.
    let texts = format!("{}{}", framed(&one.text()), framed(&other.text()).replacen("led", "gas", 1));
    let file = inspected(&with(&elf(true, true), texts.as_bytes()));
    assert_eq!(file.has("horn").map(|answer| answer.yes), Ok(true));
}

#[test]
fn what_gives_no_answer_says_why() {
    let of = |bytes: &[u8]| inspected(bytes).of_tree("skerry").map(|_| ()).unwrap_err();
    assert_eq!(of(&elf(true, true)), AskFault::NoRecord("file".into()));
    let damaged = framed(&record().text()).replacen("led", "gas", 1);
    let told = of(&with(&elf(true, true), damaged.as_bytes())).to_string();
    assert!(told.starts_with("the record of file cannot be used: it is damaged"), "{told}");
    // A member's record says nothing of the archive as a whole.
    let member = with(&elf(true, true), framed(&record().text()).as_bytes());
    assert_eq!(of(&archive(&[("a.o", &member)])), AskFault::NoRecord("file".into()));
    let named = Record { covers: Covers::Named, ..record() };
    assert_eq!(bearing(&[&named]).of_tree("skerry"), Err(AskFault::NoChoices("file".into())));
    let told = bearing(&[&record()]).of_tree("quay").unwrap_err().to_string();
    assert_eq!(told, "file was built from the tree `skerry`, and this is `quay`");
    // Things that are no files, and a number that is no process.
    let folder = tempfile::tempdir().unwrap();
    for place in [folder.path().to_path_buf(), folder.path().join("nothing"), PathBuf::from("/dev/null")] {
        let all = inspect(&place);
        let told = all[0].has("lamp").unwrap_err();
        assert!(matches!(&told, AskFault::Unread(why) if why.contains(&place.display().to_string())), "{told}");
    }
    let all = inspect(std::path::Path::new("4294967295"));
    assert!(all.len() == 1 && matches!(all[0].found, Err(ReadFault::NoProcess(u32::MAX))));
}

#[test]
fn a_process_is_asked_by_its_number() {
    // This one has no record, and what it has loaded has none either, so that its program alone is told.
    let all = inspect(&PathBuf::from(std::process::id().to_string()));
    let program = std::env::current_exe().unwrap();
    assert_eq!(all.len(), 1, "{all:?}");
    assert!(!all[0].loaded && all[0].name.ends_with(&format!(", {}", program.display())), "{}", all[0].name);
    assert_eq!(all[0].found.as_ref().map(Vec::len).ok(), Some(0));
}
