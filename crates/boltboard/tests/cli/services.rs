//! Services: their units, users and folders follow from the values, and what stands against them on this machine is told.

use std::net::{TcpListener, UdpSocket};

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "light"
version = "1"
[option.prefix]
kind = "path"
default = "/usr/local"
macro = []
[option.port]
kind = "number"
range = [1, 65535]
default = 8080
macro = []
[option.beacon]
kind = "switch"
macro = []
[option.keeper]
kind = "text"
default = "nobody"
macro = []
[option.unit]
kind = "switch"
default = "on"
macro = []
[part.lightd]
kind = "program"
sources = ["lightd.c"]
install = "${prefix}/bin"
[part.settings]
kind = "data"
sources = ["light.conf"]
output = "etc"
install = "${prefix}/etc"
mode = "600"
[service.light]
summary = "The light, 100 % of the time"
when = "unit"
program = "lightd"
arguments = ["--port", "${port}", { when = "beacon", add = ["--beacon", "two words", "$5"] }]
environment = ["LIGHT_NAME=Skerry Main"]
user = "${keeper}"
folders = ["${prefix}/var", { when = "beacon", folder = "${prefix}/var/beacon", mode = "700" }]
listens = ["${port}", { when = "beacon", add = ["udp:${port}"] }]
files = ["${prefix}/etc/light.conf"]
ready = "tells"
"#;

fn tree() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("lightd.c", "int main(void) { return 0; }\n"),
        ("light.conf", "lamp = 1\n"),
    ]);
    tree.run(&format!("set prefix={}", tree.at("inst").display())).code(0);
    tree
}

fn unit(tree: &Scratch) -> String {
    tree.read("inst/lib/systemd/system/light.service")
}

#[test]
fn units_users_and_folders_follow_from_the_values() {
    let tree = tree();
    let at = |below: &str| tree.at("inst").join(below).display().to_string();
    tree.run("install").code(0);
    let wanted = format!(
        "# Made by light 1 from the values that it was built with.\n[Unit]\nDescription=The light, 100 %% of the time\n\
         After=network.target\n\n[Service]\nType=notify\n\
         ExecStart={} --port 8080\nEnvironment=\"LIGHT_NAME=Skerry Main\"\nUser=nobody\n\
         Restart=on-failure\n\n[Install]\nWantedBy=multi-user.target\n",
        at("bin/lightd")
    );
    assert_eq!(unit(&tree), wanted);
    let folders = tree.read("inst/lib/tmpfiles.d/light.conf");
    assert!(folders.ends_with(&format!("\nd {} 0750 nobody nobody -\n", at("var"))), "{folders}");
    let users = tree.read("inst/lib/sysusers.d/light.conf");
    assert!(users.ends_with(&format!("\nu nobody - \"The light, 100 %% of the time\" {}\n", at("var"))), "{users}");

    // Another value writes these files again, and compiles nothing. What only the administrator may listen on is handed over.
    tree.run("set port=80 beacon=on").code(0);
    assert!(tree.previewed("run").iter().all(|step| !step.starts_with("compile")), "{:?}", tree.previewed("run"));
    tree.run("install").code(0);
    let text = unit(&tree);
    assert!(text.contains("lightd --port 80 --beacon \"two words\" $$5\n"), "{text}");
    assert!(text.contains("AmbientCapabilities=CAP_NET_BIND_SERVICE\n"), "{text}");
    assert!(tree.read("inst/lib/tmpfiles.d/light.conf").contains("var/beacon 0700 nobody nobody -\n"));

    // Without the service its files go, and so does all with the removal.
    tree.run("set unit=off").code(0);
    tree.run("install").code(0);
    assert!(!tree.at("inst/lib").exists() && tree.at("inst/bin/lightd").exists());
    tree.run("uninstall").code(0);
    assert!(!tree.at("inst").exists());
}

#[test]
fn what_a_service_lacks_on_this_machine_is_told() {
    let tree = tree();
    let taken = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = taken.local_addr().expect("an address").port();
    tree.run(&format!("set port={port} keeper=no-such-keeper")).code(0);
    let own = std::env::current_exe().expect("this program");
    let port_taken = format!("light is to listen on {port}, which is taken by {}", own.display());
    let at = |below: &str| tree.at("inst").join(below);
    tree.run("install").code(0).says(&[
        "no user: this machine does not know no-such-keeper",
        "no folder: TREE/inst/var is not there yet",
        &port_taken,
    ]);
    let told = tree.run("install --check --json").code(1).json();
    let of = |what: &str| {
        let all = told["unready"].as_array().expect("a list");
        all.iter().find(|one| one["what"] == what).unwrap_or_else(|| panic!("{what}: {told}")).clone()
    };
    assert_eq!(of("no-user")["user"], "no-such-keeper");
    assert_eq!(of("port-taken")["port"], port.to_string());
    assert_eq!(of("port-taken")["first"], own.display().to_string());

    // A free port is no matter; a port of messages is another one than that of connections.
    drop(taken);
    let free = tree.run("install --check").code(1);
    assert!(!free.out.contains("taken"), "{}", free.out);
    let messages = UdpSocket::bind(("127.0.0.1", port)).expect("the same number");
    assert!(!tree.run("install --check").code(1).out.contains("taken"));
    tree.run("set beacon=on").code(0);
    tree.run("install").code(0).says(&[&format!("light is to listen on udp:{port}, which is taken")]);
    drop(messages);

    // What its user may not read, and what is not there any more.
    tree.run("set keeper=nobody").code(0);
    std::fs::create_dir_all(at("var/beacon")).expect("made");
    let ran = tree.run("install").code(0);
    assert!(ran.out.contains("no right: nobody may not "), "{}", ran.out);
    std::fs::remove_file(at("etc/light.conf")).expect("removed");
    tree.run("install --check").code(1).says(&["no file: light needs TREE/inst/etc/light.conf, which is not there"]);
}

#[test]
fn a_unit_that_runs_the_program_of_another_prefix_is_told() {
    let tree = tree();
    tree.run("install").code(0);
    let file = tree.at("inst/lib/systemd/system/light.service");
    let elsewhere = unit(&tree).replace(&format!("ExecStart={}", tree.at("inst").display()), "ExecStart=/opt/older");
    std::fs::write(&file, elsewhere).expect("written");
    let told = "light.service runs /opt/older/bin/lightd, not TREE/inst/bin/lightd";
    tree.run("install --check").code(1).says(&["another prefix: TREE/inst/lib/systemd/system/", told]);
}

#[test]
fn values_that_no_service_can_have_are_told_with_their_place() {
    let tree = tree();
    for (from, to, told) in [
        (
            "\"${port}\", { when = \"beacon\", add = [\"udp:${port}\"] }",
            "\"http\"",
            "service `light`: `http` is no port",
        ),
        ("user = \"${keeper}\"", "user = \"The Keeper\"", "service `light`: `The Keeper` cannot be the name of a user"),
        ("folders = [\"${prefix}/var\",", "folders = [\"var\",", "service `light`: `var` is no absolute path"),
    ] {
        tree.edit("boltboard.toml", from, to);
        tree.run("preview").code(3).complains(&[told, "boltboard.toml:", "[service.light]"]);
        tree.edit("boltboard.toml", to, from);
    }
    tree.edit("boltboard.toml", "install = \"${prefix}/bin\"\n", "");
    tree.run("preview").code(3).complains(&["`lightd` is to be run as a service, so it must be an installed program"]);
}
