//! Publishing the state of certificates over plain HTTP: revocation lists, answers of OCSP (RFC 6960 appendix A), the authorities'
//! own certificates. Everything that is served is signed by an authority; nothing here needs to be secret in transit.

use std::collections::{BTreeMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use jiff::Timestamp;
use parking_lot::RwLock;
use ring::rand::SystemRandom;
use tiny_http::{Header, Method, Request, Response, Server};
use yestrel_core::exchange::agent::Publication;
use yestrel_core::order::OrderPublish;
use yestrel_core::x509::list::List;
use yestrel_core::x509::status::{LONGEST, Responder};
use yestrel_core::x509::{Certificate, PrivateKey};
use yestrel_core::{Problem, Result};

/// Threads that answer; a question takes well under a millisecond.
const THREADS: usize = 2;

/// One authority as it is published.
struct Published {
    certificate: Certificate,
    responder: Option<Responder>,
}

type Shelf = Arc<RwLock<BTreeMap<String, Published>>>;

/// A running publisher.
pub(crate) struct Publisher {
    port: u16,
    server: Arc<Server>,
    shelf: Shelf,
}

fn decode(text: &str) -> Result<Vec<u8>> {
    BASE64.decode(text).map_err(|_| Problem::words("what is to be published is damaged").why("it is not base64"))
}

/// Checks that a publication is an authority's own and makes it ready to answer.
///
/// # Errors
/// A list or responder that the authority did not sign.
fn ready(publication: &Publication, authority: &Certificate) -> Result<Responder> {
    let list = List::read(&decode(&publication.list)?, authority)?;
    let certificate = Certificate::from_der(&decode(&publication.responder)?)?;
    let key = PrivateKey::from_pkcs8(publication.responder_key.clone(), &SystemRandom::new())?;
    let issued: HashSet<_> = decode(&publication.issued)?.chunks_exact(16).map(<[u8]>::to_vec).collect();
    Responder::new(authority, certificate, key, list, issued)
}

/// Checks publications against what an order names.
///
/// # Errors
/// An authority that the order does not name, or as [`ready`]; a list older than the one that is out.
pub(crate) fn check(
    publications: &[Publication],
    order: Option<&OrderPublish>,
    before: &BTreeMap<String, u64>,
) -> Result<()> {
    for publication in publications {
        let named = order.and_then(|order| order.authorities.get(&publication.authority)).ok_or_else(|| {
            Problem::refused(format!("nothing of {} is to be published here", publication.authority))
                .why("the order in force does not name it")
                .try_("yestrel rollout")
        })?;
        let responder = ready(publication, &Certificate::from_der(&decode(named)?)?)?;
        let number = responder.list().number;
        if before.get(&publication.authority).is_some_and(|before| number < *before) {
            return Err(Problem::refused(format!(
                "list {number} of {} is older than the one that is out",
                publication.authority
            ))
            .why("two copies of the estate may be in use"));
        }
    }
    Ok(())
}

impl Publisher {
    /// Opens the port.
    pub fn start(bind: Option<IpAddr>, order: &OrderPublish, publications: &[Publication]) -> Result<Self> {
        let address = SocketAddr::new(bind.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)), order.port);
        let server = Server::http(address).map_err(|error| {
            Problem::failed(format!("port {}/tcp cannot be opened", order.port))
                .why(error.to_string())
                .try_("yestrel authority publish --at GATEWAY --port with a free one")
        })?;
        let publisher = Self { port: order.port, server: Arc::new(server), shelf: Shelf::default() };
        publisher.fill(order, publications);
        for _ in 0..THREADS {
            let (server, shelf) = (publisher.server.clone(), publisher.shelf.clone());
            let spawned = std::thread::Builder::new().name("publisher".into()).spawn(move || {
                while let Ok(request) = server.recv() {
                    answer(request, &shelf);
                }
            });
            if let Err(error) = spawned {
                return Err(Problem::failed("no thread to publish with").why(error.to_string()));
            }
        }
        Ok(publisher)
    }

    /// The TCP port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Puts out what there is; what was checked before cannot fail here, and what does is not put out.
    pub fn fill(&self, order: &OrderPublish, publications: &[Publication]) {
        let mut shelf = BTreeMap::new();
        for (name, certificate) in &order.authorities {
            let Some(certificate) = decode(certificate).ok().and_then(|der| Certificate::from_der(&der).ok()) else {
                continue;
            };
            let publication = publications.iter().find(|publication| publication.authority == *name);
            let responder = publication.and_then(|publication| ready(publication, &certificate).ok());
            shelf.insert(name.clone(), Published { certificate, responder });
        }
        *self.shelf.write() = shelf;
    }

    /// The number of each list that is out.
    pub fn numbers(&self) -> BTreeMap<String, u64> {
        let shelf = self.shelf.read();
        shelf.iter().filter_map(|(name, one)| Some((name.clone(), one.responder.as_ref()?.list().number))).collect()
    }
}

impl Drop for Publisher {
    fn drop(&mut self) {
        for _ in 0..THREADS {
            self.server.unblock();
        }
    }
}

fn answer(mut request: Request, shelf: &Shelf) {
    // A longer question is none; it is refused before a byte of it is read.
    let length = request.body_length().unwrap_or(0);
    if length > LONGEST {
        let _ = request.respond(Response::from_string("too long\n").with_status_code(413));
        return;
    }
    let (path, method) = (request.url().to_owned(), request.method().clone());
    let mut body = Vec::new();
    if method == Method::Post {
        use std::io::Read as _;
        if request.as_reader().take(LONGEST as u64).read_to_end(&mut body).is_err() {
            return;
        }
    }
    let answered = respond(&path, &method, &body, shelf);
    let _ = match answered {
        Ok((media_type, bytes)) => {
            let mut response = Response::from_data(bytes);
            if let Ok(header) = Header::from_bytes("Content-Type", media_type) {
                response.add_header(header);
            }
            request.respond(response)
        }
        Err((code, words)) => request.respond(Response::from_string(format!("{words}\n")).with_status_code(code)),
    };
}

type Answered = std::result::Result<(&'static str, Vec<u8>), (u16, &'static str)>;

fn respond(path: &str, method: &Method, body: &[u8], shelf: &Shelf) -> Answered {
    let shelf = shelf.read();
    let nothing = (404, "there is nothing under this name");
    let mut parts = path.trim_start_matches('/').splitn(3, '/');
    let (kind, name, rest) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default(), parts.next());
    let later = (503, "the list is not here yet");
    match (kind, method, rest) {
        ("authorities", Method::Get, None) => {
            let one = name.strip_suffix(".cer").and_then(|name| shelf.get(name)).ok_or(nothing)?;
            Ok(("application/pkix-cert", one.certificate.der().to_vec()))
        }
        ("lists", Method::Get, None) => {
            let one = name.strip_suffix(".crl").and_then(|name| shelf.get(name)).ok_or(nothing)?;
            let responder = one.responder.as_ref().ok_or(later)?;
            Ok(("application/pkix-crl", responder.list().der().to_vec()))
        }
        ("status", Method::Post, _) => status(&shelf, name, body),
        ("status", Method::Get, Some(question)) => {
            let question = percent_decoded(question).ok_or((400, "this is no question"))?;
            let der = BASE64.decode(question).map_err(|_| (400, "this is no question"))?;
            status(&shelf, name, &der)
        }
        ("authorities" | "lists" | "status", _, _) => Err((405, "this is not asked that way")),
        _ => Err(nothing),
    }
}

fn status(shelf: &BTreeMap<String, Published>, name: &str, question: &[u8]) -> Answered {
    let one = shelf.get(name).ok_or((404, "there is nothing under this name"))?;
    let responder = one.responder.as_ref().ok_or((503, "the list is not here yet"))?;
    Ok(("application/ocsp-response", responder.answer(question, Timestamp::now(), &SystemRandom::new())))
}

/// RFC 3986 section 2.1.
fn percent_decoded(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        if byte == b'%' {
            let pair = [bytes.next()?, bytes.next()?];
            out.push(u8::from_str_radix(std::str::from_utf8(&pair).ok()?, 16).ok()?);
        } else {
            out.push(byte);
        }
    }
    Some(out)
}
