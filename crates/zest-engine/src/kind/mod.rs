//! The kinds of system that look at command lines, operations and accounts: devices, clouds, applications, hosts.

pub mod host;
pub mod network_device;
pub mod service;
