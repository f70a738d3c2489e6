//! What was typed. The doc comments here are the help.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

use crate::{commands, complete};

/// Choose the build options of a source tree, see what each requires and costs, and rebuild only what a change affects
#[derive(Debug, Parser)]
#[command(name = "boltboard", version, propagate_version = true, max_term_width = 100)]
#[command(after_help = "Without a command, boltboard shows the tree you are in. Begin with `boltboard demo`.")]
pub struct Cli {
    /// What to do
    #[command(subcommand)]
    pub command: Option<Command>,
    /// Settings of every command
    #[command(flatten)]
    pub global: Global,
}

/// Settings of every command.
#[derive(Debug, Clone, Default, Args)]
pub struct Global {
    /// Use the tree at DIR instead of the one around the current folder
    #[arg(long, global = true, value_name = "DIR", help_heading = "Everywhere")]
    pub tree: Option<PathBuf>,
    /// Use the sources at DIR when the definitions lie outside of them
    #[arg(long, global = true, value_name = "DIR", help_heading = "Everywhere")]
    pub sources: Option<PathBuf>,
    /// Write everything to DIR instead of boltboard-work/
    #[arg(long, global = true, value_name = "DIR", env = "BOLTBOARD_WORK", help_heading = "Everywhere")]
    pub work: Option<PathBuf>,
    /// Take and give results of builds at ADDRESS (http://, https://, s3+https://); none where it is empty
    #[arg(long, global = true, value_name = "ADDRESS", env = "BOLTBOARD_STORE", help_heading = "Everywhere")]
    pub store_at: Option<String>,
    /// Use this profile instead of the one in use; with a `/` in it, the file of one
    #[arg(long, global = true, value_name = "NAME", help_heading = "Everywhere", add = complete::profiles())]
    pub profile: Option<String>,
    /// Answer as if these choices were made as well; nothing is saved
    #[arg(long = "try", global = true, value_name = "OPTION=VALUE", help_heading = "Everywhere", add = complete::choices())]
    pub tried: Vec<String>,
    /// Answer as if this host met the need, in that version
    #[arg(long, global = true, value_name = "NEED[=VERSION]", help_heading = "Everywhere", add = complete::needs())]
    pub assume: Vec<String>,
    /// Answer as if this host did not meet the need
    #[arg(long, global = true, value_name = "NEED", help_heading = "Everywhere", add = complete::needs())]
    pub forbid: Vec<String>,
    /// Answer for the host that FILE was saved on
    #[arg(long, global = true, value_name = "FILE", help_heading = "Everywhere")]
    pub facts: Option<PathBuf>,
    /// Print the answer as JSON
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub json: bool,
}

/// The commands, in the order of work.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Show what the tree is, what it makes and what it needs
    Overview(commands::overview::OverviewArgs),
    /// List options with their values
    Options(commands::options::OptionsArgs),
    /// Choose on the screen, and see what each choice would bring
    Board(commands::board::BoardArgs),
    /// Show all about one option
    Show(commands::show::ShowArgs),
    /// Explain why an option has its value
    Why(commands::why::WhyArgs),
    /// Find the smallest changes that lead to a value, and what each costs
    Ways(commands::ways::WaysArgs),
    /// Choose values
    Set(commands::set::SetArgs),
    /// Undo choices
    Unset(commands::set::UnsetArgs),
    /// Make, list and use profiles
    Profile(commands::profile::ProfileArgs),
    /// Carry changes to the sources in a profile
    Patch(commands::patch::PatchArgs),
    /// Propose a small profile that covers what machines really use
    Tailor(commands::tailor::TailorArgs),
    /// Check everything that the tree needs on this host
    Survey(commands::survey::SurveyArgs),
    /// Compare two or more profiles: what differs, and what lies behind it
    Compare(commands::compare::CompareArgs),
    /// Carry a profile over to this version of the tree
    Carry(commands::carry::CarryArgs),
    /// Show how a built program, library, module or archive was made
    Inspect(commands::inspect::InspectArgs),
    /// Build several profiles, or one with varied choices, and run the same command on each
    Trial(commands::trial::TrialArgs),
    /// Show what a build would do, and why
    Preview(commands::preview::PreviewArgs),
    /// Build what is not current
    Build(commands::build::BuildArgs),
    /// Run the tree's own tests
    Test(commands::test::TestArgs),
    /// Remove what builds have made
    Clean(commands::clean::CleanArgs),
    /// List earlier builds
    Ledger(commands::ledger::LedgerArgs),
    /// Install what was built
    Install(commands::install::InstallArgs),
    /// Show what was installed when, and go back to it
    Back(commands::back::BackArgs),
    /// Print what a shell needs so that it finds what is installed
    Env(commands::env::EnvArgs),
    /// Bring options, needs, parts and tests from a folder outside of the tree
    AddOn(commands::add_on::AddOnArgs),
    /// Get what the tree uses and does not carry
    Fetch(commands::fetch::FetchArgs),
    /// Share results of builds with others
    Store(commands::store::StoreArgs),
    /// Show the other machines that can take steps of a build
    Workers(commands::workers::WorkersArgs),
    /// Make packages of what was built
    Package(commands::package::PackageArgs),
    /// Remove what was installed
    Uninstall(commands::uninstall::UninstallArgs),
    /// Check the tree's definitions for mistakes
    Lint(commands::lint::LintArgs),
    /// Begin the description of a tree by hand
    Init(commands::init::InitArgs),
    /// Describe a tree that has no description, from one watched build
    Adopt(commands::adopt::AdoptArgs),
    /// Write files for other programs
    Export(commands::export::ExportArgs),
    /// Show the whole way on a made-up tree
    Demo(commands::demo::DemoArgs),
    /// Print completions for a shell
    Completions(commands::learn::CompletionsArgs),
    /// Print a manual page
    Man(commands::learn::ManArgs),
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_commands_are_sound_and_each_has_its_help() {
        let command = Cli::command();
        command.clone().debug_assert();
        let mut names = Vec::new();
        for sub in command.get_subcommands() {
            let about = sub.get_about().map(ToString::to_string).unwrap_or_default();
            assert!(!about.is_empty() && !about.ends_with('.'), "{}: {about:?}", sub.get_name());
            for argument in sub.get_arguments() {
                let help = argument.get_help().map(ToString::to_string).unwrap_or_default();
                assert!(!help.is_empty() && !help.ends_with('.'), "{} {}: {help:?}", sub.get_name(), argument.get_id());
            }
            names.push(sub.get_name().to_string());
        }
        let mut unique = names.clone();
        unique.sort();
        unique.dedup();
        assert_eq!(unique.len(), names.len());
    }

    #[test]
    fn settings_of_every_command_can_stand_anywhere() {
        let before = Cli::try_parse_from(["boltboard", "--json", "--try", "a=on", "options"]).expect("sound");
        let after = Cli::try_parse_from(["boltboard", "options", "--try", "a=on", "--json"]).expect("sound");
        assert!(before.global.json && after.global.json);
        assert_eq!((before.global.tried, after.global.tried), (vec!["a=on".to_string()], vec!["a=on".to_string()]));
    }
}
