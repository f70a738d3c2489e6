//! Providers that a person names, and facts that are not looked for.

use super::*;

#[test]
fn a_person_can_name_the_provider() {
    let bench = Bench::new(
        r#"
[need.buoy]
library = "buoy"
header = "buoy.h"
version = ">= 2"
bundled = "copy"
[need.chain]
header = "stdio.h"
[need.moor]
any-of = ["chain", "buoy"]
"#,
    );
    let at = |path: &str| bench.tree.root().join(path);
    let pc = |folder: &str, version: &str| {
        let libs = at(folder).join("lib");
        bench.tree.write(
            &format!("{folder}/lib/pkgconfig/buoy.pc"),
            &format!(
                "prefix={}\nVersion: {version}\nLibs: -L{} -lbuoy\nCflags: -I${{prefix}}/include\n",
                at(folder).display(),
                libs.display()
            ),
        );
        bench.tree.write(&format!("{folder}/include/buoy.h"), "");
        bench.shared_library(&format!("{folder}/lib/libbuoy.so"), &["buoy"]);
    };
    pc("opt/own", "2.5");
    let board = bench.tree.board();
    let need = |name: &str| board.need(name).expect("a need");
    let with = |name: &str, text: &str| {
        let provider = Provider::read(&board, need(name), text).expect("a provider");
        let wishes = Wishes { providers: [(need(name), provider)].into(), ..Wishes::default() };
        bench.run(&wishes, Joining::Together, &RealLaunch::default())
    };
    assert_eq!(bench.state(&bench.facts(), "buoy"), "bundled");
    assert_eq!(bench.state(&with("buoy", "system"), "buoy"), "Absent");
    assert_eq!(bench.state(&with("moor", "buoy"), "moor"), "bundled");
    assert_eq!(bench.state(&with("chain", "off"), "chain"), "SwitchedOff { there: There(None) }");
    let own = at("opt/own").display().to_string();
    let facts = with("buoy", &own);
    assert_eq!(bench.state(&facts, "buoy"), "found 2.5");
    let found = facts.get(need("buoy")).and_then(Fact::found).expect("found");
    assert!(found.link_flags.contains(&format!("-Wl,-rpath,{own}/lib")), "{:?}", found.link_flags);
    assert!(matches!(
        with("buoy", "/surely/nowhere").get(need("buoy")).map(|f| &f.state),
        Some(FactState::Missing(Missing::Unusable { .. }))
    ));
    // A copy where nobody looks by default is listed; one that comes first wins over a later one.
    bench.tree.write("pc/buoy.pc", "Version: 1.0\n");
    let facts = bench.facts();
    let fact = facts.get(need("buoy")).expect("a fact");
    let ranks: Vec<(Option<&str>, CopyRank)> = fact.copies.iter().map(|c| (c.version.as_deref(), c.rank)).collect();
    assert_eq!(ranks, [(Some("1.0"), CopyRank::InUse), (Some("2.5"), CopyRank::Aside)]);
    assert!(Provider::read(&board, need("chain"), "bundled").is_err());
    assert!(Provider::read(&board, need("moor"), "chain").is_ok());
}

#[test]
fn facts_can_be_assumed_saved_and_compared() {
    let bench = Bench::new(
        "[need.gone]\nlibrary = \"surely-gone\"\nlink = \"gone\"\nversion = \">= 2\"\n[need.here]\nheader = \"stdio.h\"\n",
    );
    let board = bench.tree.board();
    let gone = board.need("gone").expect("a need");
    let assume = |assumption| Wishes { assumed: [(gone, assumption)].into(), ..Wishes::default() };
    let run = |wishes: &Wishes| bench.run(wishes, Joining::Together, &RealLaunch::default());
    let there = run(&assume(Assumption::There(Some("2.1".into()))));
    assert_eq!(bench.state(&there, "gone"), "found 2.1");
    assert!(there.any_not_looked_for());
    assert_eq!(bench.state(&run(&assume(Assumption::There(None))), "gone"), "found -");
    assert_eq!(
        bench.state(&run(&assume(Assumption::There(Some("1".into())))), "gone"),
        "WrongVersion { found: \"1\" }"
    );
    let path = bench.tree.root().join("host.toml");
    let traits = HostTraits { distribution: "Reef 1".into(), ..HostTraits::default() };
    let record = HostRecord::of(&board, &there, traits.clone());
    record.save(&path).expect("saved");
    let read = HostRecord::load(&path, "t").expect("read back");
    assert_eq!(read, record);
    assert_eq!(bench.state(&read.facts(&board), "gone"), "found 2.1");
    let now = HostRecord::of(&board, &bench.facts(), traits);
    let list = differences(&record, &now);
    let told: Vec<(&Differing, &str, &str)> =
        list.iter().map(|d| (&d.what, d.before.as_str(), d.after.as_str())).collect();
    assert_eq!(told, [(&Differing::Need("gone".into()), "version 2.1", "missing")]);
    assert_eq!(differences(&now, &now), []);
    std::fs::write(&path, "format = 1\ntree = \"t\"\nbogus = 1\n").expect("written");
    let fault = HostRecord::load(&path, "t").expect_err("wrong").to_string();
    assert!(fault.contains("host.toml:3: unknown field `bogus`"), "{fault}");
    assert!(matches!(HostRecord::load(&bench.tree.root().join("none.toml"), "t"), Err(RecordFault::Absent(_))));
}
