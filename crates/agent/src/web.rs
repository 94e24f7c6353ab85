//! A small web server for what is read-only: bounded in connections, sizes and time, so that whoever floods it takes nothing from the
//! tunnels. HTTP itself is the library's (RFC 9110, RFC 9112).

use std::convert::Infallible;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use http_body_util::{BodyExt as _, Full};
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    ALLOW, CACHE_CONTROL, CONTENT_TYPE, ETAG, EXPIRES, HeaderMap, HeaderValue, IF_MODIFIED_SINCE, IF_NONE_MATCH,
    LAST_MODIFIED,
};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use jiff::Timestamp;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use tokio::task::AbortHandle;
use tokio::time::{Instant, timeout};

/// How far pages stand back behind tunnels.
const PAGES_NICE: i32 = 19;
/// Connections at once. With one more the oldest goes: whoever asks at once has long been answered by then.
const CONNECTIONS: usize = 64;
/// Of one IPv4 address or one IPv6 /64.
const FROM_ONE: usize = 8;
/// Bytes of a request before its body, and how long it may take.
const HEAD: usize = 16 * 1024;
const HEADERS: usize = 50;
/// Bytes of a connection that wait in the system for this thread.
const UNREAD: usize = 16 * 1024;
/// Bytes of a body that are read beyond what is taken.
const HEARD: usize = 256 * 1024;
const PATIENCE: Duration = Duration::from_secs(5);
/// How long a connection lasts at most, beyond what its answer takes at [`SLOWEST`] bytes a second.
const LONGEST: Duration = Duration::from_secs(15);
const SLOWEST: u64 = 32 * 1024;

/// What is asked.
pub(crate) struct Ask<'a> {
    /// `GET` also where it is `HEAD`.
    pub method: &'a Method,
    pub path: &'a str,
    pub body: &'a [u8],
}

/// How long an answer stays good.
#[derive(Clone)]
pub(crate) struct Fresh {
    /// Differs whenever the bytes do.
    pub tag: String,
    pub from: Timestamp,
    pub until: Timestamp,
}

/// An answer.
pub(crate) struct Page {
    status: StatusCode,
    media_type: &'static str,
    body: Bytes,
    fresh: Option<Fresh>,
    allow: Option<&'static str>,
}

impl Page {
    /// What was asked for.
    pub fn of(media_type: &'static str, body: impl Into<Bytes>) -> Self {
        Self { status: StatusCode::OK, media_type, body: body.into(), fresh: None, allow: None }
    }

    /// That it is not had, in a line for people.
    pub fn no(status: StatusCode, words: &str) -> Self {
        let body = format!("{words}\n");
        Self { status, ..Self::of("text/plain; charset=utf-8", body) }
    }

    /// That it is asked for in other ways only (RFC 9110 section 15.5.6).
    pub fn only(allow: &'static str) -> Self {
        Self { allow: Some(allow), ..Self::no(StatusCode::METHOD_NOT_ALLOWED, "this is not asked that way") }
    }

    /// It may be kept and given on until its end (RFC 9111; RFC 5019 section 6.2).
    pub fn fresh(self, fresh: Fresh) -> Self {
        Self { fresh: Some(fresh), ..self }
    }

    fn into_response(self, asked: &HeaderMap, now: Timestamp) -> Response<Full<Bytes>> {
        let mut response = Response::new(Full::new(self.body));
        *response.status_mut() = self.status;
        let headers = response.headers_mut();
        headers.insert(CONTENT_TYPE, HeaderValue::from_static(self.media_type));
        if let Some(allow) = self.allow {
            headers.insert(ALLOW, HeaderValue::from_static(allow));
        }
        let Some(Fresh { tag, from, until }) = self.fresh.filter(|fresh| fresh.until > now) else {
            headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
            return response;
        };
        let left = until.duration_since(now).as_secs().max(0);
        let tag = format!("\"{tag}\"");
        for (name, value) in [
            (CACHE_CONTROL, format!("max-age={left}, public, no-transform, must-revalidate")),
            (ETAG, tag.clone()),
            (LAST_MODIFIED, http_date(from)),
            (EXPIRES, http_date(until)),
        ] {
            if let Ok(value) = HeaderValue::from_str(&value) {
                headers.insert(name, value);
            }
        }
        if is_known(asked, &tag, from) {
            *response.status_mut() = StatusCode::NOT_MODIFIED;
            response.headers_mut().remove(CONTENT_TYPE);
            *response.body_mut() = Full::default();
        }
        response
    }
}

/// Whether whoever asks has it already (RFC 9110 section 13.1: the tag counts, and the date only without one).
fn is_known(asked: &HeaderMap, tag: &str, from: Timestamp) -> bool {
    let text = |name| asked.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
    match (text(IF_NONE_MATCH), text(IF_MODIFIED_SINCE)) {
        (Some(tags), _) => tags.split(',').map(str::trim).any(|one| one == "*" || one.trim_start_matches("W/") == tag),
        (None, Some(since)) => read_http_date(since).is_some_and(|since| from.as_second() <= since.as_second()),
        (None, None) => false,
    }
}

const DATE: &str = "%a, %d %b %Y %H:%M:%S GMT";

/// RFC 9110 section 5.6.7.
fn http_date(at: Timestamp) -> String {
    at.strftime(DATE).to_string()
}

fn read_http_date(text: &str) -> Option<Timestamp> {
    let civil = jiff::civil::DateTime::strptime(DATE, text).ok()?;
    civil.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|zoned| zoned.timestamp())
}

/// What answers.
type Answer = Arc<dyn Fn(&Ask<'_>) -> Page + Send + Sync>;

/// A running server. It stops when it is dropped.
pub(crate) struct Web {
    #[cfg(test)]
    address: SocketAddr,
    _stop: oneshot::Sender<()>,
}

impl Web {
    /// Opens the port and answers in a thread of this name, of bodies up to `longest` bytes.
    ///
    /// # Errors
    /// The port is taken, or there is no thread.
    pub fn start(
        name: &'static str,
        address: SocketAddr,
        longest: usize,
        answer: impl Fn(&Ask<'_>) -> Page + Send + Sync + 'static,
    ) -> io::Result<Self> {
        let listener = std::net::TcpListener::bind(address)?;
        // Connections inherit it: what nobody has read yet waits at its sender.
        rustix::net::sockopt::set_socket_recv_buffer_size(&listener, UNREAD)?;
        listener.set_nonblocking(true)?;
        #[cfg(test)]
        let address = listener.local_addr()?;
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let (stop, stopped) = oneshot::channel();
        let answer: Answer = Arc::new(answer);
        std::thread::Builder::new().name(name.into()).spawn(move || {
            // Pages are served with what tunnels leave of the processor (on Linux a thread has a niceness of its own).
            let _ = rustix::process::nice(PAGES_NICE);
            runtime.block_on(async move {
                let Ok(listener) = TcpListener::from_std(listener) else { return };
                tokio::select! {
                    () = accept(listener, longest, answer) => {}
                    _ = stopped => {}
                }
            });
        })?;
        Ok(Self {
            #[cfg(test)]
            address,
            _stop: stop,
        })
    }

    /// Where it answers.
    #[cfg(test)]
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

/// Whom a connection counts for.
fn source(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(six) => IpAddr::V6((u128::from(six) >> 64 << 64).into()),
        four => four,
    }
}

async fn accept(listener: TcpListener, longest: usize, answer: Answer) {
    let mut open: Vec<(IpAddr, AbortHandle)> = Vec::new();
    loop {
        let Ok((stream, from)) = listener.accept().await else {
            // Out of descriptors, say: what is open ends by itself.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let from = source(from.ip());
        open.retain(|(_, one)| !one.is_finished());
        let own = open.iter().filter(|(source, _)| *source == from).count();
        let oldest = match own >= FROM_ONE {
            true => open.iter().position(|(source, _)| *source == from),
            false => (open.len() >= CONNECTIONS).then_some(0),
        };
        if let Some(oldest) = oldest {
            open.remove(oldest).1.abort();
        }
        open.push((from, tokio::spawn(converse(stream, longest, answer.clone())).abort_handle()));
    }
}

/// One connection: one question, one answer.
async fn converse(stream: TcpStream, longest: usize, answer: Answer) {
    let allowed = Arc::new(AtomicU64::new(0));
    let begun = Instant::now();
    let size = allowed.clone();
    let service = service_fn(move |request: Request<Incoming>| {
        let (answer, size) = (answer.clone(), size.clone());
        async move {
            let response = respond(request, longest, &answer).await;
            let bytes = hyper::body::Body::size_hint(response.body()).lower();
            size.store(bytes, Ordering::Relaxed);
            Ok::<_, Infallible>(response)
        }
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(PATIENCE)
        .max_buf_size(HEAD)
        .max_headers(HEADERS)
        .keep_alive(false)
        .serve_connection(TokioIo::new(stream), service);
    let mut connection = std::pin::pin!(connection);
    let mut end = begun + LONGEST;
    loop {
        let sleep = std::pin::pin!(tokio::time::sleep_until(end));
        tokio::select! {
            _ = connection.as_mut() => return,
            () = sleep => {
                let later = begun + LONGEST + Duration::from_secs(allowed.load(Ordering::Relaxed) / SLOWEST);
                if later <= end {
                    return;
                }
                end = later;
            }
        }
    }
}

async fn respond(request: Request<Incoming>, longest: usize, answer: &Answer) -> Response<Full<Bytes>> {
    let (parts, body) = request.into_parts();
    let now = Timestamp::now();
    let page = match timeout(PATIENCE, read(body, longest)).await {
        Err(_) | Ok(Err(Unread::Broken)) => Page::no(StatusCode::REQUEST_TIMEOUT, "the question did not come in time"),
        Ok(Err(Unread::Long)) => Page::no(StatusCode::PAYLOAD_TOO_LARGE, "too long"),
        Ok(Ok(body)) => {
            let method = if parts.method == Method::HEAD { &Method::GET } else { &parts.method };
            answer(&Ask { method, path: parts.uri.path(), body: &body })
        }
    };
    page.into_response(&parts.headers, now)
}

/// Why there is no question.
enum Unread {
    Long,
    Broken,
}

/// A body up to `longest` bytes. One that is a little longer is heard to its end, so that whoever sends it hears the answer.
async fn read(mut body: Incoming, longest: usize) -> Result<Vec<u8>, Unread> {
    // What announces itself as far too long is not heard at all.
    if hyper::body::Body::size_hint(&body).lower() > (longest + HEARD) as u64 {
        return Err(Unread::Long);
    }
    let (mut bytes, mut heard) = (Vec::new(), 0);
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|_| Unread::Broken)?;
        let data = frame.data_ref().map(|data| &data[..]).unwrap_or_default();
        heard += data.len();
        if heard <= longest {
            bytes.extend_from_slice(data);
        } else if heard > longest + HEARD {
            break;
        }
    }
    if heard > longest { Err(Unread::Long) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use std::io::{Read as _, Write as _};

    use super::*;

    fn web() -> Web {
        let from: Timestamp = "2026-11-25T05:00:00Z".parse().unwrap();
        let until = Timestamp::now() + Duration::from_secs(600);
        let at = SocketAddr::from(([127, 0, 0, 1], 0));
        Web::start("publisher", at, 100, move |ask| match (ask.path, ask.method) {
            ("/list", &Method::GET) => {
                Page::of("application/pkix-crl", vec![7_u8; 3000]).fresh(Fresh { tag: "t7".into(), from, until })
            }
            ("/list", _) => Page::only("GET, HEAD"),
            ("/fail", _) => panic!("on purpose"),
            ("/back", _) => Page::of("application/octet-stream", ask.body.to_vec()),
            _ => Page::no(StatusCode::NOT_FOUND, "nothing"),
        })
        .unwrap()
    }

    fn open(web: &Web) -> std::net::TcpStream {
        let stream = std::net::TcpStream::connect(web.address()).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        stream
    }

    fn read(mut stream: std::net::TcpStream) -> String {
        let mut all = Vec::new();
        let _ = stream.read_to_end(&mut all);
        String::from_utf8_lossy(&all).into_owned()
    }

    fn asked(web: &Web, text: &str) -> String {
        let mut stream = open(web);
        stream.write_all(text.as_bytes()).unwrap();
        read(stream)
    }

    #[test]
    fn answers_say_how_long_they_are_good_and_are_not_sent_again() {
        let web = web();
        let got = asked(&web, "GET /list HTTP/1.1\r\nHost: h\r\n\r\n");
        assert!(got.starts_with("HTTP/1.1 200 OK\r\n"), "{got}");
        for says in [
            "content-type: application/pkix-crl\r\n",
            "content-length: 3000\r\n",
            "etag: \"t7\"\r\n",
            "last-modified: Wed, 25 Nov 2026 05:00:00 GMT\r\n",
            "public, no-transform, must-revalidate\r\n",
            "expires: ",
            "date: ",
        ] {
            assert!(got.contains(says), "{says} is missing: {got}");
        }
        let head = asked(&web, "HEAD /list HTTP/1.1\r\nHost: h\r\n\r\n");
        assert!(head.contains("content-length: 3000\r\n") && head.ends_with("\r\n\r\n"), "{head}");
        for known in
            ["If-None-Match: \"x\", W/\"t7\"", "If-None-Match: *", "If-Modified-Since: Wed, 25 Nov 2026 05:00:00 GMT"]
        {
            let got = asked(&web, &format!("GET /list HTTP/1.1\r\nHost: h\r\n{known}\r\n\r\n"));
            assert!(got.starts_with("HTTP/1.1 304 ") && got.ends_with("\r\n\r\n"), "{known}: {got}");
        }
        for unknown in [
            "If-None-Match: \"t8\"",
            "If-Modified-Since: Wed, 25 Nov 2026 04:59:59 GMT",
            "If-Modified-Since: yesterday",
        ] {
            let got = asked(&web, &format!("GET /list HTTP/1.1\r\nHost: h\r\n{unknown}\r\n\r\n"));
            assert!(got.starts_with("HTTP/1.1 200 "), "{unknown}: {got}");
        }
        let got = asked(&web, "DELETE /list HTTP/1.1\r\nHost: h\r\n\r\n");
        assert!(got.starts_with("HTTP/1.1 405 ") && got.contains("allow: GET, HEAD\r\n"), "{got}");
        let got = asked(&web, "GET /elsewhere HTTP/1.1\r\nHost: h\r\n\r\n");
        assert!(got.starts_with("HTTP/1.1 404 ") && got.contains("cache-control: no-store\r\n"), "{got}");
    }

    #[test]
    fn half_questions_endless_headers_long_bodies_and_panics_keep_nobody_from_an_answer() {
        let web = web();
        let half: Vec<_> = (0..CONNECTIONS * 3)
            .map(|_| {
                let mut stream = open(&web);
                stream.write_all(b"GET /list HTTP/1.1\r\n").unwrap();
                stream
            })
            .collect();
        assert!(asked(&web, "GET /list HTTP/1.1\r\nHost: h\r\n\r\n").starts_with("HTTP/1.1 200 "));
        drop(half);
        let mut endless = open(&web);
        let written =
            (0..4000).map(|_| endless.write_all(b"X-More: and more and more and more\r\n")).all(|one| one.is_ok());
        let got = read(endless);
        assert!(!written || got.is_empty() || got.starts_with("HTTP/1.1 4"), "{got}");
        let long = format!("POST /back HTTP/1.1\r\nHost: h\r\nContent-Length: 101\r\n\r\n{}", "x".repeat(101));
        assert!(asked(&web, &long).starts_with("HTTP/1.1 413 "));
        let chunked = format!(
            "POST /back HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n{}",
            "40\r\n".to_owned() + &"x".repeat(64) + "\r\n40\r\n" + &"x".repeat(64) + "\r\n0\r\n\r\n"
        );
        assert!(asked(&web, &chunked).starts_with("HTTP/1.1 413 "));
        assert!(asked(&web, "POST /back HTTP/1.1\r\nHost: h\r\nContent-Length: 3\r\n\r\nabc").ends_with("\r\n\r\nabc"));
        assert_eq!(asked(&web, "GET /fail HTTP/1.1\r\nHost: h\r\n\r\n"), "");
        assert!(asked(&web, "GET /list HTTP/1.1\r\nHost: h\r\n\r\n").starts_with("HTTP/1.1 200 "));
        let at = web.address();
        drop(web);
        let gone = || std::net::TcpStream::connect(at).is_err();
        assert!((0..200).any(|_| gone() || {
            std::thread::park_timeout(Duration::from_millis(20));
            false
        }));
    }
}
