//! Bridges to live database servers: they read what a server knows, and carry out what a ledger wants.
//!
//! Everything that decides is in `zest-ledger`; a bridge only moves values over the server's own protocol.

mod encryption;
mod error;
#[cfg(unix)]
pub mod in_use;
pub mod mariadb;
pub mod postgresql;
#[cfg(unix)]
pub mod private;

pub use encryption::{Certificates, Encryption};
pub use error::BridgeError;
