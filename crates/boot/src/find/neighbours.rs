//! The kernel's table of neighbours (rtnetlink(7), `RTM_GETNEIGH`).

use std::io;
use std::net::IpAddr;

use netlink_packet_core::{
    NLM_F_DUMP, NLM_F_REQUEST, NetlinkHeader, NetlinkMessage, NetlinkPayload,
};
use netlink_packet_route::RouteNetlinkMessage;
use netlink_packet_route::neighbour::{
    NeighbourAddress, NeighbourAttribute, NeighbourMessage, NeighbourState,
};
use netlink_sys::protocols::NETLINK_ROUTE;
use netlink_sys::{Socket, SocketAddr};

use super::leases::colons;

/// The most messages that are read.
const MAX_MESSAGES: usize = 100_000;

/// A computer on the same link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Neighbour {
    pub(super) address: IpAddr,
    /// In small letters with colons.
    pub(super) hardware: String,
}

/// The neighbours that have been heard.
pub(super) fn neighbours() -> io::Result<Vec<Neighbour>> {
    let mut socket = Socket::new(NETLINK_ROUTE)?;
    socket.bind_auto()?;
    socket.connect(&SocketAddr::new(0, 0))?;
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_DUMP | NLM_F_REQUEST;
    let question = RouteNetlinkMessage::GetNeighbour(NeighbourMessage::default());
    let mut message = NetlinkMessage::new(header, NetlinkPayload::from(question));
    message.finalize();
    let mut bytes = vec![0; message.buffer_len()];
    message.serialize(&mut bytes);
    socket.send(&bytes, 0)?;
    let mut all = Vec::new();
    for _ in 0..MAX_MESSAGES {
        let (datagram, _) = socket.recv_from_full()?;
        let mut rest = datagram.as_slice();
        while !rest.is_empty() {
            let Ok(message) = NetlinkMessage::<RouteNetlinkMessage>::deserialize(rest) else {
                return Ok(all);
            };
            let len = (message.header.length as usize).next_multiple_of(4);
            rest = rest.get(len.max(1)..).unwrap_or_default();
            match message.payload {
                NetlinkPayload::InnerMessage(RouteNetlinkMessage::NewNeighbour(one)) => {
                    all.extend(neighbour(&one));
                }
                NetlinkPayload::Done(_) | NetlinkPayload::Error(_) => return Ok(all),
                _ => {}
            }
        }
    }
    Ok(all)
}

fn neighbour(message: &NeighbourMessage) -> Option<Neighbour> {
    let state = message.header.state;
    if matches!(
        state,
        NeighbourState::Failed | NeighbourState::Incomplete | NeighbourState::Noarp
    ) {
        return None;
    }
    let mut address = None;
    let mut hardware = None;
    for attribute in &message.attributes {
        match attribute {
            NeighbourAttribute::Destination(NeighbourAddress::Inet(it)) => {
                address = Some((*it).into())
            }
            NeighbourAttribute::Destination(NeighbourAddress::Inet6(it)) => {
                address = Some((*it).into())
            }
            NeighbourAttribute::LinkLayerAddress(bytes) if bytes.len() == 6 => {
                hardware = Some(colons(bytes));
            }
            _ => {}
        }
    }
    Some(Neighbour {
        address: address?,
        hardware: hardware?,
    })
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_table_is_read() {
        // Without a neighbour it is empty.
        for one in super::neighbours().unwrap() {
            assert_eq!(one.hardware.len(), 17, "{one:?}");
        }
    }
}
