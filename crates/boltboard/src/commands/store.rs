//! `boltboard store`

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use boltboard_core::base::files::{read_text, write_whole, write_with_mode};
use boltboard_core::base::web::Address;
use boltboard_core::shared::{
    AddressFault, Gets, Others, OthersReport, Pruning, SharedConfig, Sharing, SharingEnvironment, SigningKey, Stock,
    with_allowed,
};
use clap::{Args, Subcommand};
use serde::Serialize;

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::json::{pruned as pruned_answer, stocked as stocked_answer};
use crate::render::shared::{
    configured, looked_at, not_allowed, nothing_given, pruned as pruned_text, report as report_text,
    stocked as stocked_text,
};
use crate::session::{Session, shared_file, sharing};

/// How long giving and looking may take in all.
const PATIENCE: Duration = Duration::from_secs(3600);

/// Share results of builds with others
#[derive(Debug, Args)]
#[command(
    after_long_help = "Where results are shared is said by --store-at ADDRESS, by the variable BOLTBOARD_STORE,\n\
    by `store` in the profile, or in your own file ~/.config/boltboard/store.toml: address,\n\
    allowed, token-file, authority, certificate, certificate-key, access-key, secret-key-file,\n\
    region, read-only, trusted, signing-key.\n\
    A profile can only name what is the address there, or allowed.\n\
    A token is taken from BOLTBOARD_STORE_TOKEN, or from the file that token-file names.\n\
    An object store with the interface of S3 is s3+https://SERVER/BUCKET/FOLDER. Its key is taken\n\
    from AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or from access-key and the file that\n\
    secret-key-file names."
)]
pub struct StoreArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Tell where results are shared, and how
    Status,
    /// Give all results of the profile in use
    Push,
    /// Look at all results of the profile that lie there, and whether they are sound
    Check,
    /// Tell how much lies there
    Size,
    /// Remove what was given long ago and nothing younger needs
    Prune {
        /// What was given more than so many days ago
        #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u32).range(1..=36_500))]
        days: u32,
        /// Only show what would be removed
        #[arg(long)]
        preview: bool,
    },
    /// Allow profiles to name a shared store
    Allow {
        /// Its address
        #[arg(value_name = "ADDRESS", value_hint = clap::ValueHint::Url)]
        address: String,
    },
    /// Make a key that results of this machine are signed with
    Key {
        /// The file for the key, which is secret
        #[arg(value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
        file: PathBuf,
    },
}

/// An answer about a shared store.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct StatusAnswer {
    format: u32,
    address: Option<String>,
    file: PathBuf,
    token: bool,
    certificate: bool,
    access_key: Option<String>,
    read_only: bool,
    trusted: Vec<String>,
    signed_as: Option<String>,
    refused: Option<String>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &StoreArgs) -> Result<Exit, Stop> {
    match &args.what {
        None | Some(What::Status) => status(global, screen),
        Some(What::Push) => push(global, screen),
        Some(What::Check) => check(global, screen),
        Some(What::Size) => size(global, screen),
        Some(What::Prune { days, preview }) => prune(global, screen, *days, *preview),
        Some(What::Allow { address }) => allow(global, screen, address),
        Some(What::Key { file }) => key(screen, file, global.json),
    }
}

fn status(global: &Global, screen: &Screen) -> Result<Exit, Stop> {
    let named = named(global, screen)?;
    let sharing = sharing(global)?;
    let (config, refused) = (sharing.config(named.as_ref())?, sharing.refused(named.as_ref()));
    let file = shared_file();
    if global.json {
        let of = config.as_ref();
        screen.json(&StatusAnswer {
            format: crate::render::json::FORMAT,
            address: of.map(|config| config.address.to_string()),
            file,
            token: of.is_some_and(|config| config.token.is_some()),
            certificate: of.is_some_and(|config| config.identity.is_shown()),
            access_key: of.and_then(|config| Some(config.access.as_ref()?.key.clone())),
            read_only: of.is_some_and(|config| config.read_only),
            trusted: of.map_or_else(Vec::new, |config| config.trusted.iter().map(ToString::to_string).collect()),
            signed_as: of.and_then(|config| Some(config.signing.as_ref()?.public().to_string())),
            refused: refused.map(|named| named.to_string()),
        });
    } else {
        screen.out(&configured(config.as_ref(), &file));
        if let Some(named) = refused {
            screen.out(&not_allowed(named));
        }
    }
    Ok(Exit::Done)
}

/// Where results are shared; without, there is nothing to do.
fn wanted(sharing: &Sharing, named: Option<&Address>) -> Result<SharedConfig, Stop> {
    sharing.config(named)?.ok_or_else(|| {
        if let Some(named) = sharing.refused(named) {
            let told =
                Diagnostic::new(format!("the profile names {named} as its shared store, which you have not allowed"));
            return Stop::new(
                Exit::WrongUse,
                told.next(format!("boltboard store allow {named}"), "let profiles name it"),
            );
        }
        let told = Diagnostic::new("nobody says where results are shared");
        let told = told.help(format!(
            "write address = \"https://…\" into {}, or give --store-at ADDRESS",
            shared_file().display()
        ));
        Stop::new(Exit::WrongUse, told.next("boltboard store --help", "how that is said"))
    })
}

/// What a profile names as its shared store, where there is a tree.
fn named(global: &Global, screen: &Screen) -> Result<Option<Address>, Stop> {
    let session = Session::open_if_any(global, screen)?;
    let choices = session.map(|session| session.choices_of(&session.profile)).transpose()?;
    Ok(choices.and_then(|choices| choices.store))
}

/// All that lies where results are shared.
fn stock(global: &Global, screen: &Screen) -> Result<Stock, Stop> {
    let named = named(global, screen)?;
    Ok(Stock::of(wanted(&sharing(global)?, named.as_ref())?)?)
}

/// What is shared of the profile in use, and of how many steps.
fn shared(global: &Global, screen: &Screen, gets: Gets) -> Result<(Others, usize), Stop> {
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let planned = session.plan(&resolved)?;
    let config = wanted(&session.around.sharing, planned.store.as_ref())?;
    let steps = planned.plan.steps.iter().filter(|(_, step)| step.has_process()).count();
    Ok((session.others_at(config, &planned.plan, gets, Some(session.tree_and_values(&resolved))), steps))
}

fn push(global: &Global, screen: &Screen) -> Result<Exit, Stop> {
    let (others, _) = shared(global, screen, Gets::Nothing)?;
    let report = others.push(PATIENCE);
    if !global.json && report_text(&report).is_empty() {
        screen.out(&nothing_given(others.is_read_only()));
    }
    Ok(answer(global, screen, &report, report.takes_nothing.is_none() && report.off.is_none()))
}

fn check(global: &Global, screen: &Screen) -> Result<Exit, Stop> {
    let (others, steps) = shared(global, screen, Gets::All)?;
    let report = others.check(PATIENCE);
    if !global.json {
        screen.out(&looked_at(&report, steps));
    }
    Ok(answer(global, screen, &report, report.off.is_none() && report.counts.spoilt == 0))
}

fn size(global: &Global, screen: &Screen) -> Result<Exit, Stop> {
    let stock = stock(global, screen)?;
    if global.json {
        screen.json(&stocked_answer(&stock));
    } else {
        screen.out(&stocked_text(&stock, SystemTime::now()));
    }
    Ok(Exit::Done)
}

fn prune(global: &Global, screen: &Screen, days: u32, preview: bool) -> Result<Exit, Stop> {
    let stock = stock(global, screen)?;
    let pruning = if preview { Pruning::Preview } else { Pruning::Remove };
    let limit = SystemTime::now() - Duration::from_secs(u64::from(days) * 86_400);
    let pruned = stock.prune(limit, pruning)?;
    if global.json {
        screen.json(&pruned_answer(stock.address(), &pruned));
    } else {
        screen.out(&pruned_text(stock.address(), &pruned, days, pruning));
    }
    Ok(if pruned.why.is_some() { Exit::No } else { Exit::Done })
}

fn allow(global: &Global, screen: &Screen, address: &str) -> Result<Exit, Stop> {
    let address = Address::parse(address).map_err(AddressFault::from)?;
    let file = shared_file();
    if Sharing::of(None, SharingEnvironment::default(), &file)?.allows(&address) {
        screen.done(&format!("Profiles may name {address} already.\n"), global.json);
        return Ok(Exit::Done);
    }
    let text = read_text(&file)?.unwrap_or_default();
    write_whole(&file, with_allowed(&text, &address, &file)?.as_bytes())?;
    screen.done(&format!("Profiles may name {address} now, as {} says.\n", file.display()), global.json);
    Ok(Exit::Done)
}

fn answer(global: &Global, screen: &Screen, report: &OthersReport, is_well: bool) -> Exit {
    if global.json {
        screen.json(&crate::render::json::shared(report));
    } else {
        screen.out(&report_text(report));
    }
    if is_well { Exit::Done } else { Exit::No }
}

fn key(screen: &Screen, file: &Path, json: bool) -> Result<Exit, Stop> {
    if file.symlink_metadata().is_ok() {
        let told = Diagnostic::new(format!("{} is there already", file.display()));
        return Err(Stop::new(
            Exit::No,
            told.help("name a file that is not there yet; a key that others trust is not written over"),
        ));
    }
    let key = SigningKey::generate().map_err(|fault| Stop::new(Exit::Machine, Diagnostic::new(fault.to_string())))?;
    write_with_mode(file, &[key.text().as_bytes()], 0o600)?;
    screen.done(
        &format!(
            "Written: {}, which is secret. Others take what is signed with it when their `trusted` has\n  {}\n",
            file.display(),
            key.public()
        ),
        json,
    );
    Ok(Exit::Done)
}
