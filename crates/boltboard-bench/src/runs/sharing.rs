//! A whole build from a shared store over loopback, beside one from the store of this machine and one that compiles everything.
//!
//! `sharing [FILES [FOLDER]]`: 1,000 files unless told otherwise, in a temporary folder.

use std::collections::BTreeMap;
use std::error::Error;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use boltboard_bench::program;
use boltboard_bench::trees::write_tree;

const ROUNDS: usize = 5;

type Files = Arc<Mutex<BTreeMap<String, Vec<u8>>>>;

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let files: usize = words.first().and_then(|word| word.parse().ok()).unwrap_or(1000);
    let own = tempfile::tempdir()?;
    let root = words.get(1).map_or_else(|| own.path().join("tree"), PathBuf::from);
    if !root.join("boltboard.toml").exists() {
        write_tree(&root, files)?;
    }
    let (address, there) = serve()?;
    let work = root.join("boltboard-work");
    let _ = std::fs::remove_dir_all(&work);
    let begun = Instant::now();
    build(&root, Some(&address))?;
    let alone = begun.elapsed().as_secs_f64();
    let size: usize = there.lock().unwrap_or_else(PoisonError::into_inner).values().map(Vec::len).sum();
    println!(
        "{files} files; everything compiled and given: {alone:.2} s, {:.1} MiB there",
        size as f64 / f64::from(1 << 20)
    );
    // The first build anew of either kind finds nothing in the memory of the machine that the others do not.
    for (name, packed) in [("all in one file", true), ("one by one", false)] {
        if !packed {
            there.lock().unwrap_or_else(PoisonError::into_inner).retain(|name, _| !name.contains("pack-"));
        }
        let (mut local, mut shared) = (Vec::new(), Vec::new());
        let mut reused = String::new();
        for _ in 0..ROUNDS {
            anew(&work, false)?;
            local.push(timed(&root, None)?.0);
            anew(&work, true)?;
            let (took, said) = timed(&root, Some(&address))?;
            shared.push(took);
            reused = said;
        }
        let ratio = median(&mut shared) / median(&mut local);
        println!(
            "{name:16} from here {:6.0} ms   from the server {:6.0} ms   {ratio:.2} times   {reused}",
            median(&mut local) * 1000.0,
            median(&mut shared) * 1000.0
        );
    }
    Ok(())
}

/// Takes away what was built, and with it the store. What is known of the host stays: it is asked alike for both.
fn anew(work: &Path, store: bool) -> std::io::Result<()> {
    if store {
        std::fs::remove_dir_all(work.join("store"))?;
    }
    std::fs::remove_dir_all(work.join("builds"))
}

fn timed(root: &Path, address: Option<&str>) -> Result<(f64, String), Box<dyn Error>> {
    let begun = Instant::now();
    let ran = build(root, address)?;
    let took = begun.elapsed().as_secs_f64();
    Ok((took, String::from_utf8_lossy(&ran.stdout).lines().next().unwrap_or_default().to_string()))
}

fn build(root: &Path, address: Option<&str>) -> Result<Output, Box<dyn Error>> {
    let mut command = Command::new(program());
    command.args(["build", "--store-at", address.unwrap_or_default()]).current_dir(root).stdin(Stdio::null());
    let ran = command.env_remove("BOLTBOARD_WORK").output()?;
    if !ran.status.success() {
        return Err(String::from_utf8_lossy(&ran.stderr).into_owned().into());
    }
    Ok(ran)
}

fn median(numbers: &mut [f64]) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}

/// A folder in memory that is handed out and taken in.
fn serve() -> Result<(String, Files), Box<dyn Error>> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = format!("http://{}/team", listener.local_addr()?);
    let files = Files::default();
    let serving = Arc::clone(&files);
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let files = Arc::clone(&serving);
            std::thread::spawn(move || answer_all(stream, &files));
        }
    });
    Ok((address, files))
}

fn answer_all(mut stream: TcpStream, files: &Files) -> Option<()> {
    let _ = stream.set_nodelay(true);
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok().filter(|read| *read > 0)?;
        let mut words = line.split_whitespace();
        let (method, path) = (words.next()?.to_string(), words.next()?.to_string());
        let mut length = 0;
        loop {
            let mut line = String::new();
            reader.read_line(&mut line).ok()?;
            let Some((name, value)) = line.trim_end().split_once(": ") else { break };
            if name.eq_ignore_ascii_case("content-length") {
                length = value.parse().ok()?;
            }
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body).ok()?;
        let mut lock = files.lock().unwrap_or_else(PoisonError::into_inner);
        let found = if method == "PUT" {
            lock.insert(path, body);
            None
        } else {
            lock.get(&path).cloned()
        };
        drop(lock);
        let (status, content) = match (method.as_str(), found) {
            ("PUT", _) => ("201 Created", Vec::new()),
            (_, Some(content)) => ("200 OK", content),
            (_, None) => ("404 Not Found", Vec::new()),
        };
        let mut all = format!("HTTP/1.1 {status}\r\nContent-Length: {}\r\n\r\n", content.len()).into_bytes();
        all.extend(content);
        stream.write_all(&all).ok()?;
    }
}
