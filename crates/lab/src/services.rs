//! The services of the lab: a name service, a ticket server, and a mirror that says from where it is asked.

use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::path::PathBuf;
use std::str::FromStr as _;

use hickory_proto::op::{Message, MessageType, ResponseCode};
use hickory_proto::rr::rdata::A;
use hickory_proto::rr::{Name, RData, Record, RecordType};

/// Answers name questions (RFC 1035) at `address` in a thread of its own: from what the file `pointed` says, a name and an address a
/// line, and from a fixed list. In a lab of processes, `real` says where a name's host really is.
pub fn names(
    address: SocketAddr,
    list: &'static [(&'static str, &'static str)],
    pointed: PathBuf,
    real: impl Fn(IpAddr) -> IpAddr + Send + 'static,
) -> io::Result<SocketAddr> {
    let socket = UdpSocket::bind(address)?;
    let bound = socket.local_addr()?;
    std::thread::spawn(move || {
        let mut buffer = [0; 1500];
        while let Ok((length, from)) = socket.recv_from(&mut buffer) {
            let text = std::fs::read_to_string(&pointed).unwrap_or_default();
            let newest_first = text.lines().rev().filter_map(|line| line.split_once(' '));
            let all: Vec<_> = newest_first.chain(list.iter().copied()).collect();
            if let Some(answer) = answer(&buffer[..length], &all, &real) {
                let _ = socket.send_to(&answer, from);
            }
        }
    });
    Ok(bound)
}

fn answer(question: &[u8], list: &[(&str, &str)], real: &dyn Fn(IpAddr) -> IpAddr) -> Option<Vec<u8>> {
    let asked =
        Message::from_vec(question).ok().filter(|message| message.metadata.message_type == MessageType::Query)?;
    let query = asked.queries.first()?.clone();
    let mut reply = Message::response(asked.metadata.id, asked.metadata.op_code);
    reply.metadata.recursion_desired = asked.metadata.recursion_desired;
    reply.metadata.recursion_available = true;
    reply.add_query(query.clone());
    let listed = list.iter().find(|(name, _)| {
        Name::from_str(name).is_ok_and(|mut name| {
            name.set_fqdn(true);
            name == *query.name()
        })
    });
    match listed {
        None => reply.metadata.response_code = ResponseCode::NXDomain,
        Some((_, address)) => {
            if query.query_type() == RecordType::A
                && let Ok(IpAddr::V4(four)) = address.parse::<IpAddr>().map(real)
            {
                reply.add_answer(Record::from_rdata(query.name().clone(), 60, RData::A(A(four))));
            }
        }
    }
    reply.to_vec().ok()
}

/// A small web service, in a thread of its own, whose every page is `page(peer)`.
pub fn web(address: SocketAddr, page: impl Fn(SocketAddr) -> String + Send + 'static) -> io::Result<SocketAddr> {
    let server = tiny_http::Server::http(address).map_err(|error| io::Error::other(error.to_string()))?;
    let bound = server.server_addr().to_ip().ok_or_else(|| io::Error::other("not an IP address"))?;
    std::thread::spawn(move || {
        for request in server.incoming_requests() {
            let body = request.remote_addr().map(|peer| page(*peer)).unwrap_or_default();
            let _ = request.respond(tiny_http::Response::from_string(body));
        }
    });
    Ok(bound)
}
