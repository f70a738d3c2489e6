//! Packages: what lies in them, what they need, and that the same input gives the same bytes.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "Light_House"
version = "1.2~rc1"
summary = "A light that is seen from far away, by night and by day, in fog, in rain, and in snow as well"
about = """
Two lines
and

an empty one."""
maintainer = "A Keeper <keeper@light.example>"
license = "MIT"
homepage = "https://light.example"
[option.prefix]
kind = "path"
default = "/usr"
macro = []
[part.lightd]
kind = "program"
sources = ["lightd.c"]
uses = ["light"]
needs = ["maths"]
install = "${prefix}/bin"
empty-folders = [{ folder = "spool", mode = "750", owner = "keeper:staff" }]
[part.light]
kind = "shared-library"
license = "Zlib"
sources = ["light.c"]
abi = "3"
install = "${prefix}/lib"
[part.headers]
kind = "data"
sources = ["light.h"]
output = "include"
install = "${prefix}/include"
[part.manual]
kind = "data"
sources = ["lightd.8"]
output = "man"
install = "${prefix}/share/man/man8"
[part.settings]
kind = "data"
sources = ["light.conf"]
output = "etc"
install = "/etc"
role = "config"
[need.maths]
header = "math.h"
link = "m"
[action.index]
summary = "bring the index up to date"
run = ["light index", "--all lights"]
undo = ["light index", "--drop"]
[action.cache]
summary = "let the linker know"
run = ["ldconfig"]
absent = "fail"
"#;

fn tree() -> Scratch {
    Scratch::with(&[
        ("boltboard.toml", BOARD),
        (
            "lightd.c",
            "#include <math.h>\nint light(void);\nint main(int n, char **v) { (void)v; return light() + (int)pow(n, n + 0.5); }\n",
        ),
        ("light.c", "int light(void) { return 0; }\n"),
        ("light.h", "int light(void);\n"),
        ("lightd.8", ".TH lightd 8\n"),
        ("light.conf", "lamp = 1\n"),
    ])
}

/// An entry of an archive: its mode, what it leads to, and its content.
#[derive(Debug, PartialEq)]
struct Entry {
    mode: u32,
    owner: (String, String),
    link: Option<String>,
    text: Vec<u8>,
}

fn entries(archive: impl Read) -> BTreeMap<String, Entry> {
    let mut archive = tar::Archive::new(archive);
    let read = |entry: std::io::Result<tar::Entry<'_, _>>| {
        let mut entry = entry.expect("an entry");
        let mut text = Vec::new();
        entry.read_to_end(&mut text).expect("its content");
        let header = entry.header();
        assert_eq!((header.uid().ok(), header.gid().ok(), header.mtime().ok()), (Some(0), Some(0), Some(0)));
        let name = |name: Option<&str>| name.unwrap_or_default().to_string();
        let owner = (name(header.username().ok().flatten()), name(header.groupname().ok().flatten()));
        let link = entry.link_name().expect("readable").map(|to| to.display().to_string());
        let at = entry.path().expect("a path").display().to_string();
        (at, Entry { mode: header.mode().expect("a mode"), owner, link, text })
    };
    archive.entries().expect("an archive").map(read).collect()
}

/// The control files and the data of a package of Debian.
fn opened(deb: &Path) -> [BTreeMap<String, Entry>; 2] {
    let mut archive = ar::Archive::new(std::fs::File::open(deb).expect("a package"));
    let mut members = Vec::new();
    while let Some(member) = archive.next_entry() {
        let mut member = member.expect("a member");
        let mut bytes = Vec::new();
        member.read_to_end(&mut bytes).expect("its content");
        members.push((String::from_utf8_lossy(member.header().identifier()).into_owned(), bytes));
    }
    let names: Vec<&str> = members.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["debian-binary", "control.tar.gz", "data.tar.gz"]);
    assert_eq!(members[0].1, b"2.0\n");
    [1, 2].map(|at| entries(flate2::read::GzDecoder::new(&members[at].1[..])))
}

fn text(entries: &BTreeMap<String, Entry>, name: &str) -> String {
    let entry = entries.get(name).unwrap_or_else(|| panic!("{name} in {:?}", entries.keys()));
    String::from_utf8_lossy(&entry.text).into_owned()
}

#[test]
fn a_package_of_debian_says_what_it_is_needs_and_does() {
    let tree = tree();
    tree.run("package --as deb --into debs").code(0).says(&["Packed: debs/light-house_1.2~rc1_", "sudo apt install "]);
    let made: Vec<_> = std::fs::read_dir(tree.at("debs")).expect("packages").filter_map(Result::ok).collect();
    let deb = made.iter().map(std::fs::DirEntry::path).find(|path| path.extension().is_some_and(|e| e == "deb"));
    let [control, data] = opened(&deb.expect("a package"));
    let about = text(&control, "control");
    for line in [
        "Package: light-house\nVersion: 1.2~rc1\nArchitecture: ",
        "\nMaintainer: A Keeper <keeper@light.example>\n",
        "\nHomepage: https://light.example\n",
        // Cut off between words.
        "\nDescription: A light that is seen from far away, by night and by day, in fog, in rain, and in …\n",
        " Two lines\n and\n .\n an empty one.\n",
    ] {
        assert!(about.contains(line), "{line} in\n{about}");
    }
    if Path::new("/var/lib/dpkg/info").is_dir() {
        let depends = about.lines().find_map(|line| line.strip_prefix("Depends: ")).expect("what it needs");
        assert!(depends.split(", ").any(|one| one.starts_with("libc6") && one.contains(">= 2.")), "{depends}");
        assert!(!depends.contains("light"), "its own library is not asked for: {depends}");
    }
    assert_eq!(text(&control, "conffiles"), "/etc/light.conf\n");
    let wanted = "#!/bin/sh\nset -e\nif [ \"$1\" = configure ]; then\n    # bring the index up to date\n    \
                  if command -v 'light index' > /dev/null; then 'light index' '--all lights'; fi\n    \
                  # let the linker know\n    ldconfig\nfi\n";
    assert_eq!(text(&control, "postinst"), wanted);
    assert!(text(&control, "postrm").contains("= remove ]; then\n    # bring the index up to date\n"));
    assert_eq!((control["postinst"].mode, control["control"].mode), (0o755, 0o644));
    assert_eq!((data["usr/bin/lightd"].mode, data["etc/light.conf"].mode), (0o755, 0o644));
    assert_eq!(data["usr/lib/liblight.so"].link.as_deref(), Some("liblight.so.3"));
    let spool = &data["usr/bin/spool/"];
    assert_eq!((spool.mode, spool.owner.0.as_str(), spool.owner.1.as_str()), (0o750, "keeper", "staff"));
    assert_eq!(text(&data, "etc/light.conf"), "lamp = 1\n");
    // The bill of materials names what is bundled and what is needed.
    let bill = made.iter().map(std::fs::DirEntry::path).find(|path| path.extension().is_some_and(|e| e == "json"));
    let bill: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(bill.expect("a bill")).expect("a text")).expect("JSON");
    assert_eq!(bill["spdxVersion"], "SPDX-2.3");
    let list = made.iter().map(std::fs::DirEntry::path).find(|path| path.extension().is_some_and(|e| e == "txt"));
    let list = std::fs::read_to_string(list.expect("a list")).expect("a text");
    let (own, other) = ("\nMIT\n  Light_House: all that is not named here\n", "\nZlib\n  light\n");
    assert!(list.contains(own) && list.contains(other) && list.contains("\nNeeded packages"), "{list}");
    let packages = bill["packages"].as_array().expect("packages");
    let license =
        |name: &str| packages.iter().find(|one| one["name"] == name).map(|one| one["licenseDeclared"].clone());
    assert_eq!(license("light-house"), Some("MIT".into()));
    assert_eq!(license("light-house-light"), Some("Zlib".into()));
    let related = |kind: &str| {
        let all = bill["relationships"].as_array().expect("relations");
        all.iter().filter(|one| one["relationshipType"] == kind).count()
    };
    assert_eq!((related("DESCRIBES"), related("CONTAINS")), (1, 1));
}

#[test]
fn what_is_there_to_build_on_and_to_read_can_have_packages_of_its_own() {
    let tree = tree();
    let told = tree.run("package --as deb --split --into debs --json").code(0).json();
    let packages = told["packages"].as_array().expect("a list");
    let names: Vec<&str> = packages.iter().filter_map(|one| one["name"].as_str()).collect();
    assert_eq!(names, ["light-house", "light-house-dev", "light-house-doc"]);
    let deb = |index: usize| packages[index]["written"][0]["path"].as_str().expect("a path").to_string();
    let at = |index: usize| tree.at(deb(index).trim_start_matches("TREE/"));
    let [control, data] = opened(&at(1));
    assert!(
        text(&control, "control").contains("\nDepends: light-house (= 1.2~rc1)\n"),
        "{}",
        text(&control, "control")
    );
    assert!(!control.contains_key("postinst"));
    let files: Vec<&str> = data.keys().map(String::as_str).filter(|at| !at.ends_with('/')).collect();
    assert_eq!(files, ["usr/include/light.h", "usr/lib/liblight.so"]);
    let [control, data] = opened(&at(2));
    assert!(text(&control, "control").contains("\nArchitecture: all\n"));
    assert!(data.contains_key("usr/share/man/man8/lightd.8"));
    let machine = |index: usize| packages[index]["machine"].clone();
    assert_eq!((machine(0), machine(2)), (machine(1), serde_json::Value::Null));
}

#[test]
fn an_archive_of_objects_is_for_one_kind_of_machine_as_a_program_is() {
    let tree = tree();
    tree.edit(
        "boltboard.toml",
        "kind = \"program\"\nsources = [\"lightd.c\"]\nuses = [\"light\"]",
        "kind = \"objects\"\nsources = [\"lightd.c\"]",
    );
    tree.edit("boltboard.toml", "install = \"${prefix}/bin\"\nempty-folders = [{ folder = \"spool\", mode = \"750\", owner = \"keeper:staff\" }]\n", "");
    tree.edit("boltboard.toml", "kind = \"shared-library\"", "kind = \"static-library\"");
    tree.edit("boltboard.toml", "abi = \"3\"\n", "");
    let told = tree.run("package --as deb --json").code(0).json();
    let machine = &told["packages"][0]["machine"];
    assert!(machine.is_string(), "{machine}");
    // A header alone is for all.
    let told = tree.run("package headers --as deb --json").code(0).json();
    assert_eq!(told["packages"][0]["machine"], serde_json::Value::Null);
    // What would be packed, as data.
    let told = tree.run("package --preview --json").code(0).json();
    let files = told["files"].as_array().expect("a list");
    let settings = files.iter().find(|file| file["path"] == "/etc/light.conf").expect("the settings");
    assert_eq!((settings["config"].clone(), settings["share"].clone()), (true.into(), "to run".into()));
    let fields: Vec<&String> = settings.as_object().expect("an object").keys().collect();
    assert_eq!(fields, ["config", "link", "mode", "path", "share"]);
}

#[test]
fn a_package_of_rpm_needs_libraries_by_name_and_keeps_configurations() {
    let tree = tree();
    let told = tree.run("package --as rpm --split --into rpms --json").code(0).json();
    let packages = told["packages"].as_array().expect("a list");
    let opened = |index: usize| {
        let at = packages[index]["written"][0]["path"].as_str().expect("a path");
        rpm::Package::open(tree.at(at.trim_start_matches("TREE/"))).expect("a package")
    };
    let main = opened(0);
    main.verify_digests().expect("its digests are right");
    let told = &main.metadata;
    let version = (told.get_name().expect("a name"), told.get_version().expect("a version"));
    assert_eq!((version, told.get_license().expect("a licence")), (("light-house", "1.2~rc1"), "MIT"));
    let names = |all: Vec<rpm::Dependency>| all.into_iter().map(|one| one.name).collect::<Vec<_>>();
    let requires = names(told.get_requires().expect("what it needs"));
    assert!(requires.iter().any(|one| one.starts_with("libm.so.6(GLIBC_")), "{requires:?}");
    assert!(!requires.iter().any(|one| one.starts_with("liblight")), "{requires:?}");
    assert!(names(told.get_provides().expect("what it brings")).iter().any(|one| one.starts_with("liblight.so.3")));
    let files = told.get_file_entries().expect("files");
    let file = |path: &str| files.iter().find(|file| file.path() == Path::new(path)).expect("a file");
    assert!(file("/etc/light.conf").flags().contains(rpm::FileFlags::CONFIG | rpm::FileFlags::NOREPLACE));
    assert_eq!(file("/usr/bin/lightd").mode().permissions(), 0o755);
    let script = told.get_post_install_script().expect("a script");
    assert!(script.script.contains("\nldconfig\n") && !script.script.contains("configure"), "{}", script.script);
    let removed = told.get_post_uninstall_script().expect("a script");
    assert!(removed.script.starts_with("if [ \"$1\" = 0 ]; then\n"), "{}", removed.script);
    let devel = opened(1);
    assert_eq!(devel.metadata.get_name().expect("a name"), "light-house-devel");
    let wants = devel.metadata.get_requires().expect("what it needs");
    assert!(wants.iter().any(|one| one.name == "light-house" && one.version == "1.2~rc1-1"), "{wants:?}");
}

#[test]
fn the_same_input_gives_the_same_bytes_wherever_it_is_built() {
    let (one, other) = (tree(), tree());
    let packed = |tree: &Scratch, form: &str| -> BTreeMap<String, Vec<u8>> {
        tree.run(&format!("package --as {form} --into packed-{form}")).code(0);
        let folder = std::fs::read_dir(tree.at(&format!("packed-{form}"))).expect("packages").filter_map(Result::ok);
        let read = |entry: std::fs::DirEntry| {
            (entry.file_name().to_string_lossy().into_owned(), std::fs::read(entry.path()).expect("readable"))
        };
        folder.map(read).collect()
    };
    for form in ["tar", "deb", "rpm"] {
        let first = packed(&one, form);
        assert_eq!(first.keys().collect::<Vec<_>>(), packed(&other, form).keys().collect::<Vec<_>>());
        assert!(first == packed(&other, form) && first == packed(&one, form), "{form}");
    }
    let files = packed(&one, "tar");
    let (name, bytes) = files.iter().find(|(name, _)| name.ends_with(".tar.zst")).expect("an archive");
    let inside = entries(zstd::Decoder::new(&bytes[..]).expect("compressed"));
    assert!(inside.contains_key("usr/bin/lightd") && inside.contains_key("usr/share/man/man8/lightd.8"));
    let list: serde_json::Value = serde_json::from_slice(&files[&format!("{name}.json")]).expect("JSON");
    assert_eq!(list["archive"], name.as_str());
    let listed = list["files"].as_array().expect("files");
    let settings = listed.iter().find(|file| file["path"] == "/etc/light.conf").expect("listed");
    // What `sha256sum` prints for the text.
    let digest = "d4e46f74ee61be17fc1a1e4a38d24fd87311cf5e77ad07b5dfd7ddbf6912d4ec";
    assert_eq!(settings["sha256"], digest);
    assert_eq!((settings["config"].clone(), settings["mode"].clone()), (true.into(), "644".into()));
    let folders = inside.keys().filter(|at| at.ends_with('/') && *at != "usr/bin/spool/").count();
    assert_eq!(listed.len() + folders, inside.len());
}

#[test]
fn what_no_package_can_be_is_told_before_anything_is_built() {
    for (from, to, said) in [
        ("name = \"Light_House\"", "name = \"l\"", "`l` cannot be the name of a package"),
        ("license = \"MIT\"\nhomepage", "homepage", "an .rpm says its licence"),
        ("version = \"1.2~rc1\"", "version = \"1.2-rc1\"", "`1.2-rc1` cannot be the version of an .rpm"),
        ("version = \"1.2~rc1\"", "version = \"rc 1\"", "`rc 1` cannot be the version of a package"),
        ("maintainer = \"A Keeper <keeper@light.example>\"", "", "has no `maintainer`"),
    ] {
        let tree = tree();
        tree.edit("boltboard.toml", from, to);
        let form = if said.contains(".rpm") { "rpm" } else { "deb" };
        tree.run(&format!("package --as {form}")).code(3).complains(&[said, "Nothing was packed."]);
        assert!(!tree.at("boltboard-work/builds").exists() && !tree.at("boltboard-work/packages").exists());
    }
    let tree = tree();
    tree.run("package --preview").code(0).says(&["/usr/bin/lightd", "configuration"]);
    assert!(!tree.at("boltboard-work/builds").exists(), "nothing is built for a look");
    tree.run("set prefix=/usr/local").code(0);
    tree.run("package --as deb")
        .code(0)
        .says(&["place: it puts files below /usr/local", "→ boltboard set prefix=/usr "]);
}
