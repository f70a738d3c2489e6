//! The demo tree is carried in the program, so a change of it makes the program anew.

fn main() {
    println!("cargo:rerun-if-changed=../../demo/skerry");
    println!("cargo:rerun-if-changed=../../demo/skerry-3.0");
}
