//! Results that a team shares: what one machine made is taken by others, from a folder that any web server hands out and takes in.
//!
//! Everything lies there by content or by the digest of a command, in files of one folder (`wire` says in which form). A server need know
//! nothing of us: it answers `GET`, and `PUT` where it takes results in (RFC 9110). What it gives is read within limits, checked by
//! digest and, where a person names keys, by signature; what does not fit is as if it were not there. A server that does not answer costs
//! a second in all, and the build goes on alone.

mod address;
mod asking;
mod client;
mod giving;
mod identity;
mod keys;
mod listing;
mod objects;
mod others;
mod private;
mod stock;
mod wire;

pub use address::{AddressFault, Secret, SharedConfig, Sharing, SharingEnvironment, with_allowed};
pub use identity::Identity;
pub use keys::{KeyFault, PublicKey, SigningKey};
pub use listing::SharedFile;
pub use objects::ObjectAccess;
pub use others::{Asked, Asker, Gets, Others, OthersCounts, OthersReport};
pub use stock::{Amount, Pruned, Pruning, Stock, StockFault};
pub use wire::{SharedKind, SharedName};
