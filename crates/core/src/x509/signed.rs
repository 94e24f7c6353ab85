//! Signed messages (CMS, RFC 5652) around a text that a device installs.

use cms::cert::{CertificateChoices, IssuerAndSerialNumber};
use cms::content_info::{CmsVersion, ContentInfo};
use cms::signed_data::{
    CertificateSet, EncapsulatedContentInfo, SignedAttributes, SignedData, SignerIdentifier, SignerInfo, SignerInfos,
};
use jiff::Timestamp;
use ring::rand::SecureRandom;
use sha2::Digest as _;
use x509_cert::attr::Attribute;
use x509_cert::der::asn1::{Any, OctetString, SetOfVec};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::der::{Decode as _, Encode as _};
use x509_cert::spki::AlgorithmIdentifierOwned;

use super::certificate::Certificate;
use super::key::{self, PrivateKey};
use super::{time, unencodable};
use crate::{Problem, Result};

const DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.1");
const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
const CONTENT_TYPE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.3");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");

fn attribute(oid: ObjectIdentifier, value: Any) -> Result<Attribute> {
    Ok(Attribute { oid, values: SetOfVec::try_from(vec![value]).map_err(unencodable)? })
}

/// Signs `text` so that it travels inside the message; `chain` begins with the signer's certificate. DER.
///
/// # Errors
/// Never with certificates that were read.
pub fn sign(
    text: &[u8],
    chain: &[Certificate],
    key: &PrivateKey,
    now: Timestamp,
    random: &dyn SecureRandom,
) -> Result<Vec<u8>> {
    let sha256 = AlgorithmIdentifierOwned { oid: SHA256, parameters: None };
    let digest = OctetString::new(sha2::Sha256::digest(text).to_vec()).map_err(unencodable)?;
    let attributes = vec![
        attribute(CONTENT_TYPE, Any::from(DATA))?,
        attribute(SIGNING_TIME, Any::encode_from(&time(now)?).map_err(unencodable)?)?,
        attribute(MESSAGE_DIGEST, Any::encode_from(&digest).map_err(unencodable)?)?,
    ];
    let signed_attributes: SignedAttributes = SetOfVec::try_from(attributes).map_err(unencodable)?;
    // RFC 5652 section 5.4: what is signed is the SET, not its place in the message.
    let signature = key.sign(&signed_attributes.to_der().map_err(unencodable)?, random)?;
    let own = &chain[0].parsed().tbs_certificate;
    let signer = SignerInfo {
        version: CmsVersion::V1,
        sid: SignerIdentifier::IssuerAndSerialNumber(IssuerAndSerialNumber {
            issuer: own.issuer.clone(),
            serial_number: own.serial_number.clone(),
        }),
        digest_alg: sha256.clone(),
        signed_attrs: Some(signed_attributes),
        signature_algorithm: key.signature_algorithm(),
        signature: OctetString::new(signature.raw_bytes()).map_err(unencodable)?,
        unsigned_attrs: None,
    };
    let certificates =
        chain.iter().map(|one| CertificateChoices::Certificate(one.parsed().clone())).collect::<Vec<_>>();
    let content = OctetString::new(text).map_err(unencodable)?;
    let signed = SignedData {
        version: CmsVersion::V1,
        digest_algorithms: SetOfVec::try_from(vec![sha256]).map_err(unencodable)?,
        encap_content_info: EncapsulatedContentInfo {
            econtent_type: DATA,
            econtent: Some(Any::encode_from(&content).map_err(unencodable)?),
        },
        certificates: Some(CertificateSet::try_from(certificates).map_err(unencodable)?),
        crls: None,
        signer_infos: SignerInfos::try_from(vec![signer]).map_err(unencodable)?,
    };
    let content = Any::encode_from(&signed).map_err(unencodable)?;
    ContentInfo { content_type: SIGNED_DATA, content }.to_der().map_err(unencodable)
}

/// The text inside a signed message (DER), once its one signature holds: by a certificate in it that holds at `now`. Whether whoever signed
/// is to be trusted is for somebody else to say.
///
/// # Errors
/// It is no such message, or the signature does not hold.
pub fn open(message: &[u8], now: Timestamp) -> Result<Vec<u8>> {
    let wrong = |why: &str| Problem::words("this is no signed message that could be opened").why(why);
    let unread = |_| wrong("it is not laid out as one");
    let outer = ContentInfo::from_der(message).map_err(unread)?;
    let signed: SignedData = outer.content.decode_as().map_err(unread)?;
    let text = signed.encap_content_info.econtent.as_ref().ok_or_else(|| wrong("there is no text in it"))?;
    let text = text.decode_as::<OctetString>().map_err(unread)?;
    let signer = signed.signer_infos.0.get(0).ok_or_else(|| wrong("nobody signed it"))?;
    let SignerIdentifier::IssuerAndSerialNumber(by) = &signer.sid else {
        return Err(wrong("who signed it is not named"));
    };
    let certificates = signed.certificates.as_ref().map(|all| all.0.iter()).into_iter().flatten();
    let own = certificates.filter_map(|one| match one {
        CertificateChoices::Certificate(one) => Some(one),
        CertificateChoices::Other(_) => None,
    });
    let own = own
        .clone()
        .find(|one| one.tbs_certificate.issuer == by.issuer && one.tbs_certificate.serial_number == by.serial_number)
        .ok_or_else(|| wrong("the certificate of who signed it is not in it"))?;
    let own = Certificate::from_der(&own.to_der().map_err(unencodable)?)?;
    if now < own.not_before() || now > own.not_after() {
        return Err(wrong("who signed it may not sign now"));
    }
    let attributes = signer.signed_attrs.as_ref().ok_or_else(|| wrong("its signature is over nothing"))?;
    let digest = attributes.iter().find(|one| one.oid == MESSAGE_DIGEST).and_then(|one| one.values.get(0));
    let digest = digest.ok_or_else(|| wrong("its signature is not over the text"))?;
    if digest.decode_as::<OctetString>().map_err(unread)?.as_bytes() != &sha2::Sha256::digest(text.as_bytes())[..] {
        return Err(wrong("its signature is over another text"));
    }
    let signature = x509_cert::der::asn1::BitString::from_bytes(signer.signature.as_bytes()).map_err(unread)?;
    key::verify(own.key(), &signer.signature_algorithm, &attributes.to_der().map_err(unencodable)?, &signature)?;
    Ok(text.into_bytes())
}
