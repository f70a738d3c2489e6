//! Tests of the built program: one binary, a file for each subject.

mod build;
mod builder;
mod definitions;
mod deliver;
mod exact;
mod faults;
mod habits;
mod harness;
mod hosts;
mod json;
mod learn;
mod look;
mod making;
mod moving;
mod large;
mod profiles;
mod reasoning;
mod rounds;
mod same_text;
mod skerry;
mod structure;
mod survey;
mod telling;
mod toolchains;
mod touched;
mod watched;
