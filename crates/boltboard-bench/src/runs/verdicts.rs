//! Holds the survey's verdicts against the package database of a Debian machine: every library and tool of our catalogue is looked
//! for, and must be found just when its package is installed. Prints how many of each there were, and ends with 1 when a
//! verdict is wrong. A program that no package brings (one in `/usr/local`, say) counts by its file.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench verdicts`

use std::collections::BTreeMap;
use std::error::Error;
use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;

use boltboard_bench::run;

type Result<T> = std::result::Result<T, Box<dyn Error>>;

struct Claim {
    sort: &'static str,
    thing: String,
    package: String,
}

pub fn measured(_: &[String]) -> Result<()> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../boltboard-core/src/remedy/catalogue.toml");
    let claims = claims(&std::fs::read_to_string(path)?);
    let mut board = String::from("format = 1\n[tree]\nname = \"verdicts\"\nversion = \"1\"\n");
    for (number, claim) in claims.iter().enumerate() {
        write!(board, "[need.n{number}]\n{} = \"{}\"\n", claim.sort, claim.thing)?;
    }
    let folder = tempfile::tempdir()?;
    std::fs::write(folder.path().join("boltboard.toml"), board)?;
    let output = run(folder.path(), &["survey", "--all", "--json"])?;
    let answer: serde_json::Value = serde_json::from_slice(&output.stdout)
        .map_err(|e| format!("{e}: {}", String::from_utf8_lossy(&output.stderr)))?;
    let (mut present, mut absent, mut wrong) = (0, 0, 0);
    let installed = installed()?;
    for (number, claim) in claims.iter().enumerate() {
        let need = &answer["needs"][number];
        let found = need["state"] == "found";
        let (is_there, by) = match need["place"].as_str().and_then(owner) {
            // Several packages can bring the same; what was found belongs to the one that the database names.
            Some(owner) => (installed.contains_key(&owner), owner),
            None if found => (true, "no package".into()),
            None => (installed.contains_key(&claim.package), claim.package.clone()),
        };
        match is_there {
            true => present += 1,
            false => absent += 1,
        }
        if found != is_there {
            wrong += 1;
            println!(
                "{} {}: {} ({}), and {by} is {}installed",
                claim.sort,
                claim.thing,
                need["state"].as_str().unwrap_or_default(),
                need["detail"].as_str().unwrap_or_default(),
                if is_there { "" } else { "not " }
            );
        }
    }
    println!("{present} installed, {absent} absent; {wrong} wrong verdicts");
    if wrong > 0 {
        std::process::exit(1);
    }
    Ok(())
}

/// Reads the catalogue's claims: libraries and tools. Headers are left out, because many lie in folders that only their library's
/// metadata names.
fn claims(text: &str) -> Vec<Claim> {
    let mut claims = Vec::new();
    for line in text.lines().filter(|line| line.contains(" = {")) {
        let quoted = |key: &str, close: char| -> Vec<String> {
            let Some((_, rest)) = line.split_once(&format!("{key} = ")) else { return Vec::new() };
            let part = rest.split(close).next().unwrap_or_default();
            part.split('"').skip(1).step_by(2).map(str::to_string).collect()
        };
        let package = quoted("debian", ',').pop().unwrap_or_default();
        for sort in ["library", "tool"] {
            let things = quoted(sort, ']').into_iter();
            claims.extend(things.map(|thing| Claim { sort, thing, package: package.clone() }));
        }
    }
    claims
}

/// The installed packages with their versions.
fn installed() -> Result<BTreeMap<String, String>> {
    let output =
        Command::new("dpkg-query").args(["-W", "-f", "${db:Status-Status} ${Package} ${Version}\n"]).output()?;
    let text = String::from_utf8(output.stdout)?;
    let words = text.lines().filter_map(|line| line.strip_prefix("installed ")?.split_once(' '));
    Ok(words.map(|(package, version)| (package.to_string(), version.to_string())).collect())
}

/// The package that a file belongs to, if one brings it.
fn owner(path: &str) -> Option<String> {
    let real = std::fs::canonicalize(path).ok()?.display().to_string();
    // The database knows files by their place before `/bin` became a link to `/usr/bin`, or after.
    let shorter = real.strip_prefix("/usr").unwrap_or(&real).to_string();
    for path in [path.to_string(), real, shorter] {
        let output = Command::new("dpkg-query").args(["-S", &path]).output().ok()?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let line = text.lines().find(|line| !line.starts_with("diversion"));
        if let Some((package, _)) = line.and_then(|line| line.split_once(": ")) {
            return Some(package.split([',', ':']).next().unwrap_or(package).to_string());
        }
    }
    None
}
