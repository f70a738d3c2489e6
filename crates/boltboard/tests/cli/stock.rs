//! All that lies in a shared store: how much it is, what of it goes, and stores that hold objects.

use crate::harness::objects::Key;
use crate::harness::web::{Web, Wrong};
use crate::harness::{Ran, Scratch};
use crate::sharing;

fn run(tree: &Scratch, web: &Web, words: &str) -> Ran {
    tree.ran(tree.command(words).env("BOLTBOARD_STORE", &web.address).env("HOME", tree.at("home")))
}

/// The same for an object store, by someone who has a key.
fn signed(tree: &Scratch, web: &Web, secret: &str, words: &str) -> Ran {
    let mut command = tree.command(words);
    command.env("BOLTBOARD_STORE", &web.address).env("HOME", tree.at("home"));
    command.env("AWS_ACCESS_KEY_ID", "keeper").env("AWS_SECRET_ACCESS_KEY", secret).env("AWS_REGION", "north-sea");
    tree.ran(&mut command)
}

/// The flags of the tree, before and after a change.
const FLAGS: [&str; 2] = ["[\"-Iinclude\"]", "[\"-Iinclude\", \"-g\"]"];

/// A store with what a tree made with two sets of flags, the first of which was given long ago.
fn aged() -> (Web, Scratch) {
    let (web, tree) = (Web::new(), sharing::tree());
    run(&tree, &web, "build").code(0);
    web.age("", 100);
    web.lay("readme", b"ours".to_vec());
    tree.edit("boltboard.toml", FLAGS[0], FLAGS[1]);
    run(&tree, &web, "build").code(0);
    (web, tree)
}

fn of_kind(web: &Web, kind: &str) -> usize {
    web.files().keys().filter(|name| name.starts_with(kind)).count()
}

#[test]
fn what_is_old_goes_and_what_younger_results_need_stays() {
    let (web, first) = aged();
    let all = web.files().len() - 1;
    let told = run(&first, &web, "store size").code(0);
    told.says(&[
        &format!("{}: {all} files", web.address),
        "what steps made",
        "whole builds",
        "100 days ago, the last 0 s ago",
    ]);
    let size = run(&first, &web, "store size --json").code(0).json();
    assert_eq!(size["files"].as_u64(), Some(all as u64));
    let of_kinds: u64 = size["kinds"].as_object().expect("kinds").values().filter_map(|of| of["files"].as_u64()).sum();
    assert_eq!(of_kinds, all as u64);
    // Only told at first.
    let before = web.files();
    let told = run(&first, &web, "store prune --days 30 --preview").code(0);
    told.says(&["would lose", "given more than 30 days ago", "kept: ", "→ boltboard store prune --days 30"]);
    assert_eq!(web.files(), before);
    let told = run(&first, &web, "store prune --days 30 --json").code(0).json();
    let number = |what: &str| told[what]["files"].as_u64().expect("a number");
    assert!(number("removed") > 0 && number("needed") > 0, "{told}");
    assert_eq!(number("removed") + number("left"), all as u64);
    assert_eq!(web.files().len() as u64, number("left") + 1, "what is not ours stays");
    run(&first, &web, "store prune --days 30")
        .code(0)
        .says(&["has nothing to remove that was given more than 30 days ago"]);
    // What was given last is there whole: nobody compiles it.
    let second = sharing::tree();
    second.edit("boltboard.toml", FLAGS[0], FLAGS[1]);
    run(&second, &web, "build").code(0).steps(0);
    run(&second, &web, "store check").code(0);
    // What was given first is made again.
    let third = sharing::tree();
    assert!(run(&third, &web, "build").code(0).ran() > 0);
}

#[test]
fn nothing_goes_that_might_be_needed() {
    let (web, first) = aged();
    let before = web.files();
    // Somebody who only takes.
    first.write("home/.config/boltboard/store.toml", "read-only = true\n");
    run(&first, &web, "store prune --days 30 --preview").code(0).says(&["would lose"]);
    run(&first, &web, "store prune --days 30")
        .code(1)
        .complains(&["your own file says read-only", "→ boltboard store"]);
    assert_eq!(web.files(), before);
    first.write("home/.config/boltboard/store.toml", "");
    // What stays cannot be read.
    for (begins, status, why) in [("notes-", 500, ": it answers 500"), ("notes-", 403, ""), ("pack-", 404, "")] {
        web.be(Wrong::Hides(begins, status));
        let told = run(&first, &web, "store prune --days 30").code(1);
        let gives = format!("does not give {begins}");
        told.complains(&[&gives, &format!("so nothing was removed{why}"), "→ boltboard store"]);
        assert_eq!(web.files(), before);
    }
    // Something cannot be removed: what is named is there yet.
    web.be(Wrong::Holds("footings-"));
    web.age("footings-", 100);
    let (contents, notes) = (of_kind(&web, "content-"), of_kind(&web, "notes-"));
    web.age("", 100);
    run(&first, &web, "store prune --days 30").code(1).says(&["not all of it: ", "it answers 500"]);
    assert_eq!((of_kind(&web, "content-"), of_kind(&web, "notes-"), of_kind(&web, "pack-")), (contents, 0, 0));
    assert!(notes > 0);
    web.be(Wrong::Nothing);
    run(&first, &web, "store prune --days 30").code(0);
    assert_eq!(web.files().len(), 1);
}

#[test]
fn what_nobody_can_date_or_has_become_another_stays() {
    let (web, first) = aged();
    let (before, all) = (web.files(), web.files().len() - 1);
    web.be(Wrong::NoDates);
    let told = run(&first, &web, "store prune --days 30").code(0);
    told.says(&["has nothing to remove", &format!("kept: {all} files of which the server tells no date")]);
    let size = run(&first, &web, "store size").code(0);
    assert!(!size.out.contains("ago") && !size.out.contains('→'), "nothing is said of when: {}", size.out);
    web.be(Wrong::Changes);
    run(&first, &web, "store prune --days 30").code(0).says(&["has nothing to remove", "given anew meanwhile"]);
    assert_eq!(web.files(), before);
}

#[test]
fn what_is_not_sound_needs_nothing() {
    let (web, first) = aged();
    let needed = |ran: &Ran| ran.json()["needed"]["files"].as_u64().expect("a number");
    assert!(needed(&run(&first, &web, "store prune --days 30 --preview --json").code(0)) > 0);
    for kind in ["notes-", "pack-"] {
        web.change(kind, |bytes| bytes.truncate(bytes.len() / 2));
    }
    assert_eq!(needed(&run(&first, &web, "store prune --days 30 --preview --json").code(0)), 0);
}

#[test]
fn stores_that_list_nothing_say_so() {
    let (web, first) = aged();
    for (wrong, why) in [
        (Wrong::HandsOut, "it does not list what it has; one with WebDAV (RFC 4918) does"),
        (Wrong::Answers(404), "there is no such folder"),
        (Wrong::Answers(403), "it answers 403 (Forbidden)"),
    ] {
        web.be(wrong);
        for command in ["store size", "store prune --days 30"] {
            run(&first, &web, command).code(1).complains(&["tells nobody what it has: ", why, "→ boltboard store"]);
        }
    }
    first.ran(first.command("store size").env("HOME", first.at("home"))).code(2).complains(&["nobody says where"]);
    run(&first, &web, "store prune").code(2);
    run(&first, &web, "store prune --days 0").code(2);
}

#[test]
fn an_object_store_is_asked_as_it_wants_to_be() {
    let key = Key { name: "keeper".into(), secret: "lamp/oil+".into(), region: "north-sea".into() };
    let web = Web::objects(key.clone());
    let first = sharing::tree();
    let told = signed(&first, &web, "salt", "build").code(0);
    told.complains(&["it answers 403 (Forbidden): SignatureDoesNotMatch"]);
    assert!(web.files().is_empty());
    run(&first, &web, "store push").code(1).says(&["InvalidAccessKeyId"]);
    signed(&first, &web, &key.secret, "store push").code(0).says(&["Given to s3+http://"]);
    let told = signed(&first, &web, &key.secret, "store").code(0).says(&["keeper, which signs each request"]);
    assert!(!told.out.contains(&key.secret) && !told.err.contains(&key.secret), "{}{}", told.out, told.err);
    let second = sharing::tree();
    signed(&second, &web, &key.secret, "build").code(0).steps(0);
    assert_eq!(first.outputs("mine"), second.outputs("mine"));
    web.drop("pack-");
    let third = sharing::tree();
    assert!(signed(&third, &web, &key.secret, "build").code(0).ran() < 6);
    signed(&third, &web, &key.secret, "store check").code(0);
    // Its list comes in parts.
    let all = web.files().len();
    assert!(all > 6);
    signed(&third, &web, &key.secret, "store size").code(0).says(&[&format!(": {all} files")]);
    web.age("", 50);
    signed(&third, &web, &key.secret, "store prune --days 40").code(0).says(&[&format!("{all} files")]);
    assert!(web.files().is_empty());
}

#[test]
fn who_one_is_to_an_object_store_can_be_written_down() {
    let key = Key { name: "keeper".into(), secret: "lamp".into(), region: "us-east-1".into() };
    let (web, other) = (Web::objects(key.clone()), Web::objects(key));
    let first = sharing::tree();
    let write = |more: &str| {
        let text = format!("address = \"{}\"\n{more}", web.address);
        first.write("home/.config/boltboard/store.toml", &text);
    };
    let plain = |words: &str| first.ran(first.command(words).env("HOME", first.at("home")));
    first.write("home/.config/boltboard/secret", "lamp\n");
    write("access-key = \"keeper\"\n");
    plain("store").code(2).complains(&["`access-key` needs `secret-key-file`, its key"]);
    write("secret-key-file = \"secret\"\n");
    plain("store").code(2).complains(&["`secret-key-file` needs the `access-key` that it is for"]);
    write("access-key = \"keeper\"\nsecret-key-file = \"secret\"\n");
    plain("build").code(0).complains(&["Given to s3+http://"]);
    // It is shown to no other server.
    let told = plain(&format!("store --json --store-at {}", other.address)).code(0).json();
    assert_eq!(told["access-key"], serde_json::Value::Null);
    plain(&format!("store push --store-at {}", other.address)).code(1).says(&["403"]);
    write("access-key = \"keeper\"\nsecret-key-file = \"secret\"\nregion = \"south\"\n");
    plain("store push").code(1).says(&["InvalidAccessKeyId"]);
    for no in ["s3+http://127.0.0.1:1", "s3+http://127.0.0.1:1/", "s3+http://127.0.0.1:1/team/../other", "s3+ftp://x/y"]
    {
        plain(&format!("store --store-at {no}"))
            .code(2)
            .complains(&["is no address of a shared store", "and a bucket"]);
    }
}
