//! The rules of each kind of system.

pub(crate) mod network_device;
pub mod postgresql;
