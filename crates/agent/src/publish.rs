//! Publishing the state of certificates over plain HTTP: revocation lists, answers of OCSP (RFC 6960 appendix A), the authorities'
//! own certificates. Everything that is served is signed by an authority; nothing here needs to be secret in transit.

use std::collections::{BTreeMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use hyper::body::Bytes;
use hyper::{Method, StatusCode};
use jiff::Timestamp;
use parking_lot::RwLock;
use ring::digest;
use ring::rand::SystemRandom;
use yestrel_core::exchange::agent::Publication;
use yestrel_core::order::OrderPublish;
use yestrel_core::x509::list::List;
use yestrel_core::x509::status::{LONGEST, Responder};
use yestrel_core::x509::{Certificate, PrivateKey};
use yestrel_core::{Problem, Result};

use crate::web::{Ask, Fresh, Page, Web};

/// The name of threads that read and serve what authorities signed. Nothing else ends with them.
pub(crate) const THREAD: &str = "publisher";

/// One authority as it is published: bytes, and what answers questions.
struct Published {
    certificate: Bytes,
    list: Option<(Bytes, Fresh)>,
    responder: Option<Responder>,
}

type Shelf = Arc<RwLock<BTreeMap<String, Published>>>;

/// A running publisher.
pub(crate) struct Publisher {
    port: u16,
    _web: Web,
    shelf: Shelf,
}

/// Reads foreign bytes in a thread that nothing depends on: whatever is wrong with them ends that alone.
fn apart<T: Send>(read: impl FnOnce() -> Result<T> + Send) -> Result<T> {
    let broken = |why: String| Problem::failed("what is to be published cannot be read").why(why);
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().name(THREAD.into()).spawn_scoped(scope, read);
        let thread = thread.map_err(|error| broken(error.to_string()))?;
        thread.join().unwrap_or_else(|_| Err(broken("reading it failed; the agent's log says how".into())))
    })
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
    apart(|| check_here(publications, order, before))
}

fn check_here(
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
        let shelf = Shelf::default();
        fill(&shelf, order, publications);
        let serving = shelf.clone();
        let web = Web::start(THREAD, address, LONGEST, move |ask| respond(ask, &serving)).map_err(|error| {
            Problem::failed(format!("port {}/tcp cannot be opened", order.port))
                .why(error.to_string())
                .try_("yestrel authority publish --at GATEWAY --port with a free one")
        })?;
        Ok(Self { port: order.port, _web: web, shelf })
    }

    /// The TCP port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Puts out what there is; what was checked before cannot fail here, and what does is not put out.
    pub fn fill(&self, order: &OrderPublish, publications: &[Publication]) {
        fill(&self.shelf, order, publications);
    }

    /// The number of each list that is out.
    pub fn numbers(&self) -> BTreeMap<String, u64> {
        let shelf = self.shelf.read();
        shelf.iter().filter_map(|(name, one)| Some((name.clone(), one.responder.as_ref()?.list().number))).collect()
    }
}

fn fill(shelf: &Shelf, order: &OrderPublish, publications: &[Publication]) {
    let mut new = BTreeMap::new();
    for (name, certificate) in &order.authorities {
        let publication = publications.iter().find(|publication| publication.authority == *name);
        let published = apart(|| {
            let der = decode(certificate)?;
            let certificate = Certificate::from_der(&der)?;
            let responder = publication.and_then(|publication| ready(publication, &certificate).ok());
            let list = responder.as_ref().map(|responder| {
                let list = responder.list();
                let fresh = Fresh { tag: tag(list.der()), from: list.from, until: list.until };
                (list.der().to_vec().into(), fresh)
            });
            Ok(Published { certificate: der.into(), list, responder })
        });
        match published {
            Ok(published) => drop(new.insert(name.clone(), published)),
            Err(problem) => tracing::error!(authority = name, "not published: {}", problem.line()),
        }
    }
    *shelf.write() = new;
}

/// Differs whenever the bytes do.
fn tag(bytes: &[u8]) -> String {
    digest::digest(&digest::SHA256, bytes).as_ref()[..12].iter().map(|byte| format!("{byte:02x}")).collect()
}

fn respond(ask: &Ask<'_>, shelf: &Shelf) -> Page {
    let shelf = shelf.read();
    let nothing = || Page::no(StatusCode::NOT_FOUND, "there is nothing under this name");
    let mut parts = ask.path.trim_start_matches('/').splitn(3, '/');
    let (kind, name, rest) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default(), parts.next());
    let (get, post) = (ask.method == Method::GET, ask.method == Method::POST);
    match (kind, rest) {
        ("authorities" | "lists", None) if !get => Page::only("GET, HEAD"),
        ("authorities", None) => {
            let one = name.strip_suffix(".cer").and_then(|name| shelf.get(name));
            one.map_or_else(nothing, |one| Page::of("application/pkix-cert", one.certificate.clone()))
        }
        ("lists", None) => match name.strip_suffix(".crl").and_then(|name| shelf.get(name)) {
            None => nothing(),
            Some(Published { list: None, .. }) => later(),
            Some(Published { list: Some((der, fresh)), .. }) => {
                Page::of("application/pkix-crl", der.clone()).fresh(fresh.clone())
            }
        },
        ("status", _) => match shelf.get(name) {
            None => nothing(),
            Some(Published { responder: None, .. }) => later(),
            Some(Published { responder: Some(responder), .. }) if post => status(responder, ask.body, false),
            Some(Published { responder: Some(responder), .. }) if get && rest.is_some() => {
                let question = rest.and_then(percent_decoded).and_then(|text| BASE64.decode(text).ok());
                match question {
                    Some(question) => status(responder, &question, true),
                    None => Page::no(StatusCode::BAD_REQUEST, "this is no question"),
                }
            }
            Some(_) => Page::only("POST"),
        },
        _ => nothing(),
    }
}

fn later() -> Page {
    Page::no(StatusCode::SERVICE_UNAVAILABLE, "the list is not here yet")
}

/// RFC 6960 appendix A; what is asked by GET may be kept (RFC 5019 section 6.2).
fn status(responder: &Responder, question: &[u8], may_be_kept: bool) -> Page {
    let now = Timestamp::now();
    let answer = responder.answer(question, now, &SystemRandom::new());
    let tag = tag(&answer.der);
    let page = Page::of("application/ocsp-response", answer.der);
    match answer.until {
        Some(until) if may_be_kept => page.fresh(Fresh { tag, from: responder.list().from, until }),
        _ => page,
    }
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
