//! Looking names up, without the C library: a statically linked program must not load parts of it at run time. The
//! hosts file first, then the resolvers of the resolver file, by UDP (RFC 1035).

use std::fs;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::str::FromStr as _;
use std::time::{Duration, Instant};

use hickory_proto::op::{Message, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};
use yestrel_core::{Problem, Result};

/// Waiting for one resolver.
const PATIENCE: Duration = Duration::from_millis(1500);
/// How often it is asked.
const TRIES: usize = 2;
/// A resolver that is only now being started is asked so often more, and so long apart.
const STARTING: (usize, Duration) = (5, Duration::from_millis(100));

/// A question for the addresses of `name`, and its id.
///
/// # Errors
/// Not a name of the domain name system.
pub fn question(name: &str, v6: bool) -> Result<(u16, Vec<u8>)> {
    let wrong = || Problem::words(format!("{name:?} is not a host name"));
    let mut absolute = Name::from_str(name).map_err(|_| wrong())?;
    absolute.set_fqdn(true);
    let mut message = Message::query();
    message.metadata.recursion_desired = true;
    message.add_query(Query::query(absolute, if v6 { RecordType::AAAA } else { RecordType::A }));
    let bytes = message.to_vec().map_err(|_| wrong())?;
    Ok((message.metadata.id, bytes))
}

/// The addresses in an answer to the question with this id; `None` when it answers something else.
#[must_use]
pub fn addresses(id: u16, answer: &[u8]) -> Option<std::result::Result<Vec<IpAddr>, ResponseCode>> {
    let message = Message::from_vec(answer).ok().filter(|message| message.metadata.id == id)?;
    if message.metadata.response_code != ResponseCode::NoError {
        return Some(Err(message.metadata.response_code));
    }
    let addresses = message.answers.iter().filter_map(|record| match &record.data {
        RData::A(four) => Some(IpAddr::V4(four.0)),
        RData::AAAA(six) => Some(IpAddr::V6(six.0)),
        _ => None,
    });
    Some(Ok(addresses.collect()))
}

/// The name that a question or an answer is about, in lower case; `None` unless it is about exactly one.
#[must_use]
pub fn asked_for(message: &[u8]) -> Option<String> {
    let message = Message::from_vec(message).ok()?;
    let [query] = &message.queries[..] else { return None };
    Some(query.name().to_ascii().to_ascii_lowercase())
}

/// The resolvers of a resolver file (resolv.conf), in its order.
#[must_use]
pub fn resolvers(file: &str) -> Vec<IpAddr> {
    file.lines()
        .filter_map(|line| line.trim().strip_prefix("nameserver"))
        .filter_map(|rest| rest.trim().split('%').next()?.parse().ok())
        .collect()
}

/// Asks one resolver for the addresses of `name`, IPv4 first.
///
/// # Errors
/// It does not answer, or does not know the name.
pub fn ask(resolver: SocketAddr, name: &str) -> Result<Vec<IpAddr>> {
    ask_from(&socket_for(resolver, name)?, resolver, name)
}

/// A socket from which a resolver can be asked for `name`.
///
/// # Errors
/// No socket of the resolver's family.
pub fn socket_for(resolver: SocketAddr, name: &str) -> Result<UdpSocket> {
    let any: SocketAddr = if resolver.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0_u16; 8], 0).into() };
    UdpSocket::bind(any).map_err(|error| Problem::failed(format!("{name} does not resolve")).why(error.to_string()))
}

/// As [`ask`], from a socket that is there.
///
/// # Errors
/// As [`ask`].
pub fn ask_from(socket: &UdpSocket, resolver: SocketAddr, name: &str) -> Result<Vec<IpAddr>> {
    let failed = |why: String| Problem::failed(format!("{name} does not resolve")).why(why);
    let _ = socket.connect(resolver);
    let mut found = Vec::new();
    let mut refusal = None;
    for v6 in [false, true] {
        let (id, bytes) = question(name, v6)?;
        match answer_to(socket, id, &bytes) {
            Some(Ok(mut more)) => found.append(&mut more),
            Some(Err(code)) => refusal = Some(code),
            None => return Err(failed(format!("the resolver {} does not answer", resolver.ip()))),
        }
    }
    match refusal {
        _ if !found.is_empty() => Ok(found),
        Some(code) => Err(failed(format!("the resolver {} says: {code}", resolver.ip()))),
        None => Err(failed("the name has no address".into())),
    }
}

/// What a resolver answers to one question, which is asked again when nothing comes. What is no answer to it, such as a late one to a
/// question before, costs nothing; a resolver that is not there is asked a few times more, for it may be coming up.
fn answer_to(socket: &UdpSocket, id: u16, question: &[u8]) -> Option<std::result::Result<Vec<IpAddr>, ResponseCode>> {
    let mut answer = [0; 4096];
    let mut refused = 0;
    for _ in 0..TRIES {
        let until = Instant::now() + PATIENCE;
        let _ = socket.send(question);
        while let Some(left) = until.checked_duration_since(Instant::now()).filter(|left| !left.is_zero()) {
            let _ = socket.set_read_timeout(Some(left));
            match socket.recv(&mut answer) {
                Ok(length) => {
                    if let Some(result) = addresses(id, &answer[..length]) {
                        return Some(result);
                    }
                }
                Err(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
                    refused += 1;
                    if refused > STARTING.0 {
                        return None;
                    }
                    std::thread::park_timeout(STARTING.1);
                    let _ = socket.send(question);
                }
                Err(_) => break,
            }
        }
    }
    None
}

/// The addresses of a name, as this machine sees them now. An address stands for itself.
///
/// # Errors
/// No resolver knows it.
pub fn look_up(name: &str) -> Result<Vec<IpAddr>> {
    if let Ok(address) = name.parse() {
        return Ok(vec![address]);
    }
    let hosts = fs::read_to_string("/etc/hosts").unwrap_or_default();
    let listed: Vec<IpAddr> = hosts
        .lines()
        .map(|line| line.split('#').next().unwrap_or_default())
        .filter(|line| line.split_whitespace().skip(1).any(|alias| alias.eq_ignore_ascii_case(name)))
        .filter_map(|line| line.split_whitespace().next()?.parse().ok())
        .collect();
    if !listed.is_empty() {
        return Ok(listed);
    }
    // Lets a machine without privileges, and a process of the lab, use a resolver of its own.
    let resolvers: Vec<SocketAddr> = match std::env::var("YESTREL_RESOLVER").ok().and_then(|text| text.parse().ok()) {
        Some(one) => vec![one],
        None => resolvers(&fs::read_to_string("/etc/resolv.conf").unwrap_or_default())
            .into_iter()
            .map(|address| SocketAddr::new(address, 53))
            .collect(),
    };
    let mut last = Problem::failed(format!("{name} does not resolve")).why("/etc/resolv.conf names no resolver");
    for resolver in resolvers {
        match ask(resolver, name) {
            Ok(addresses) => return Ok(addresses),
            Err(problem) => last = problem,
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_resolver_file_is_read_in_order() {
        let file = "# made by hand\nsearch skerry.example\nnameserver 10.44.0.20\n nameserver fe80::1%eth0\nnameserver nonsense\n";
        assert_eq!(resolvers(file), ["10.44.0.20".parse::<IpAddr>().unwrap(), "fe80::1".parse().unwrap()]);
    }

    /// The answer that a question gets from `10.44.0.20`, or for IPv6 that there is none.
    fn answered(question: &[u8]) -> Vec<u8> {
        let asked = Message::from_vec(question).unwrap();
        let mut message = Message::response(asked.metadata.id, asked.metadata.op_code);
        let query = asked.queries[0].clone();
        if query.query_type() == RecordType::A {
            let address = RData::A("10.44.0.20".parse::<std::net::Ipv4Addr>().unwrap().into());
            message.add_answer(hickory_proto::rr::Record::from_rdata(query.name().clone(), 60, address));
        }
        message.add_query(query);
        message.to_vec().unwrap()
    }

    /// Late answers, answers to something else, and a resolver that only comes up while it is asked.
    #[test]
    fn what_is_no_answer_to_a_question_costs_nothing() {
        let resolver = UdpSocket::bind("127.0.0.1:0").unwrap();
        let address = resolver.local_addr().unwrap();
        let serve = |resolver: UdpSocket| {
            std::thread::spawn(move || {
                let mut question = [0; 512];
                for _ in 0..2 {
                    let (length, from) = resolver.recv_from(&mut question).unwrap();
                    let answer = answered(&question[..length]);
                    let mut other = answer.clone();
                    other[0] ^= 1;
                    for bytes in [&b"noise"[..], &other, &other, &other, &answer, &answer] {
                        resolver.send_to(bytes, from).unwrap();
                    }
                }
            })
        };
        let serving = serve(resolver);
        let began = Instant::now();
        assert_eq!(ask(address, "tickets.skerry.example").unwrap(), ["10.44.0.20".parse::<IpAddr>().unwrap()]);
        assert!(began.elapsed() < PATIENCE, "nothing was waited for");
        serving.join().unwrap();
        // Nobody is there: it is said, and soon.
        let problem = ask(address, "tickets.skerry.example").unwrap_err();
        assert!(problem.line().contains("does not answer"), "{problem:?}");
        let later = std::thread::spawn(move || {
            std::thread::park_timeout(STARTING.1 * 2);
            serve(UdpSocket::bind(address).unwrap()).join().unwrap();
        });
        assert!(ask(address, "tickets.skerry.example").is_ok());
        later.join().unwrap();
    }

    proptest! {
        #[test]
        fn no_answer_makes_the_reader_fail(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = addresses(7, &bytes);
        }
    }
}
