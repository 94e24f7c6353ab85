//! A bundle for Android: what its own settings import, and the page of steps.

use std::io::Write as _;

use yestrel_core::x509::key;
use yestrel_core::{Problem, Result};
use zeroize::Zeroizing;

use super::parts::{Parts, Who};

/// The bundle.
pub(super) fn bundle(parts: &Parts, transport: &str, steps: &str) -> Result<Zeroizing<Vec<u8>>> {
    let failed = |error: zip::result::ZipError| Problem::failed("the bundle cannot be made").why(error.to_string());
    parts.first_gateway()?;
    let mut files: Vec<(String, Zeroizing<Vec<u8>>)> = Vec::new();
    if let Who::Certificate { leaf, .. } = &parts.who {
        if !matches!(key::strength(leaf.key())?, key::Strength::Rsa(_)) {
            return Err(Problem::refused(format!("the certificate of {} has no RSA key", parts.device))
                .why("the settings of Android offer IKEv2 with a certificate as \"IKEv2/IPSec RSA\" alone")
                .try_(format!("yestrel credential renew {} --kind certificate --key rsa-3072", parts.device)));
        }
        files.push((parts.file("p12"), parts.pkcs12(transport, true)?));
    }
    let root = parts.root_above_gateway()?;
    files.push(("authority.crt".into(), Zeroizing::new(root.der().to_vec())));
    files.push(("steps.txt".into(), Zeroizing::new(steps.as_bytes().to_vec())));
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, bytes) in files {
        writer.start_file(name, options).map_err(failed)?;
        writer.write_all(&bytes).map_err(|error| failed(error.into()))?;
    }
    Ok(Zeroizing::new(writer.finish().map_err(failed)?.into_inner()))
}
