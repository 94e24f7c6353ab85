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
use x509_cert::der::Encode as _;
use x509_cert::der::asn1::{Any, OctetString, SetOfVec};
use x509_cert::der::oid::ObjectIdentifier;
use x509_cert::spki::AlgorithmIdentifierOwned;

use super::certificate::Certificate;
use super::key::PrivateKey;
use super::{time, unencodable};
use crate::Result;

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
