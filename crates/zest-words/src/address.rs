//! The one form in which networks are compared, in lines as in conditions.

use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net};

/// Reads an address with a prefix length.
///
/// The address is one that the standard library reads too: the library for networks takes `::` for no group at all, beside eight others.
pub fn parse_network(text: &str) -> Option<IpNet> {
    let (address, _) = text.split_once('/')?;
    address.parse::<IpAddr>().ok()?;
    text.parse().ok()
}

/// Returns a network by its first address. One of IPv4-mapped addresses is the IPv4 network they are mapped from (RFC 4291,
/// section 2.5.5.2).
pub fn canonical_network(net: IpNet) -> IpNet {
    let net = net.trunc();
    let IpNet::V6(six) = net else { return net };
    let four = six.addr().to_ipv4_mapped().zip(six.prefix_len().checked_sub(96));
    four.and_then(|(address, length)| Ipv4Net::new(address, length).ok()).map_or(net, IpNet::V4)
}
