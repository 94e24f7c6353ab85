//! Requests for certificates (PKCS#10, RFC 2986): made here for others to sign, and taken from devices.

use ring::rand::SecureRandom;
use x509_cert::attr::{Attribute, Attributes};
use x509_cert::der::asn1::{Any, OctetString, SetOfVec};
use x509_cert::der::oid::{AssociatedOid as _, ObjectIdentifier};
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::ext::pkix::SubjectAltName;
use x509_cert::ext::{Extension, Extensions};
use x509_cert::request::{CertReq, CertReqInfo, Version};
use x509_cert::spki::SubjectPublicKeyInfoOwned;

use super::certificate::common_name;
use super::key::{self, PrivateKey};
use super::names::{self, SubjectName, subject_of};
use super::{pem, unencodable};
use crate::{Problem, Result};

/// RFC 2985 section 5.4.2: extensionRequest.
const EXTENSION_REQUEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.14");

/// What a request asks for; its signature was checked.
#[derive(Debug, Clone)]
pub struct Request {
    pub key: SubjectPublicKeyInfoOwned,
    /// "p-256".
    pub strength: String,
    pub common_name: Option<String>,
    pub names: Vec<SubjectName>,
}

/// Makes a request as PEM.
///
/// # Errors
/// A name that cannot be encoded.
pub fn make(organisation: &str, names: &[SubjectName], key: &PrivateKey, random: &dyn SecureRandom) -> Result<String> {
    let subject = subject_of(organisation, names)?;
    let general: Vec<_> = names.iter().map(SubjectName::to_general).collect::<Result<_>>()?;
    let value = SubjectAltName(general).to_der().map_err(unencodable)?;
    let extension = Extension {
        extn_id: SubjectAltName::OID,
        critical: subject.is_empty(),
        extn_value: OctetString::new(value).map_err(unencodable)?,
    };
    let extensions: Extensions = vec![extension];
    let values = SetOfVec::try_from(vec![Any::encode_from(&extensions).map_err(unencodable)?]).map_err(unencodable)?;
    let attributes = Attributes::try_from(vec![Attribute { oid: EXTENSION_REQUEST, values }]).map_err(unencodable)?;
    let info = CertReqInfo { version: Version::V1, subject, public_key: key.public().clone(), attributes };
    let signature = key.sign(&info.to_der().map_err(unencodable)?, random)?;
    let request = CertReq { info, algorithm: key.signature_algorithm(), signature };
    Ok(pem("CERTIFICATE REQUEST", &request.to_der().map_err(unencodable)?))
}

/// Reads a request, DER or PEM, and checks that whoever made it has the key, and that the key is strong enough.
///
/// # Errors
/// Not a request, a signature that does not hold, a weak key.
pub fn read(bytes: &[u8]) -> Result<Request> {
    let der = super::one_of(bytes, &["CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST"], "request for a certificate")?;
    let no = |why: String| Problem::words("this is no request for a certificate").why(why);
    let request = CertReq::from_der(&der).map_err(|error| no(error.to_string()))?;
    let strength = key::strength(&request.info.public_key)?.to_string();
    key::verify(&request.info.public_key, &request.algorithm, &names::first_of_sequence(&der)?, &request.signature)
        .map_err(|problem| {
            Problem::refused("the request's signature does not hold")
                .why("whoever made it does not have the key, or it was altered on its way")
                .try_(problem.tries.first().cloned().unwrap_or_else(|| "make it again on the device".into()))
        })?;
    let mut found = Vec::new();
    for attribute in request.info.attributes.iter().filter(|attribute| attribute.oid == EXTENSION_REQUEST) {
        for value in attribute.values.iter() {
            let extensions: Extensions = value.decode_as().map_err(|error| no(format!("what it asks for: {error}")))?;
            for extension in extensions.iter().filter(|extension| extension.extn_id == SubjectAltName::OID) {
                let names = SubjectAltName::from_der(extension.extn_value.as_bytes())
                    .map_err(|error| no(format!("its names: {error}")))?;
                found.extend(names.0.iter().map(SubjectName::from_general));
            }
        }
    }
    if found.len() > 100 {
        return Err(no(format!("it asks for {} names", found.len())));
    }
    let common_name = common_name(&request.info.subject);
    Ok(Request { key: request.info.public_key, strength, common_name, names: found })
}

impl Request {
    /// Checks that it asks for nobody else's names: what it says must be among `own`.
    ///
    /// # Errors
    /// It asks for another name.
    pub fn check_names(&self, own: &[String]) -> Result<()> {
        let asked = self.common_name.iter().cloned().chain(self.names.iter().map(ToString::to_string));
        for name in asked {
            if !own.iter().any(|own| own.eq_ignore_ascii_case(&name)) {
                return Err(Problem::refused(format!("the request asks for the name {name:?}"))
                    .why(format!("it is not this device's; its own are {}", own.join(", ")))
                    .try_("make the request on the device with no names, or with its own"));
            }
        }
        Ok(())
    }
}
