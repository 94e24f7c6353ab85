//! Handing certificates and accounts over in the forms that devices' own software takes.

use std::collections::BTreeMap;
use std::io::Write as _;

use p12_keystore::{
    Certificate as Held, EncryptionAlgorithm, KeyStore, KeyStoreEntry, MacAlgorithm, PrivateKey as HeldKey,
};
use p12_keystore::{Pkcs12ImportPolicy, PrivateKeyChain};
use plist::{Dictionary, Value};
use yestrel_core::account;
use yestrel_core::admission::ProofKind;
use yestrel_core::estate::{
    Authority, CertificateKind, Credential, CredentialKind, Gateway, IssuedCertificate, Listener, Reach, Site,
};
use yestrel_core::keys::Secret;
use yestrel_core::x509::certificate::{self, Points, Purpose, Wanted};
use yestrel_core::x509::names::SubjectName;
use yestrel_core::x509::{Algorithm, Certificate, PrivateKey, key, signed};
use yestrel_core::{Problem, Result, moment};
use yestrel_store::Book;
use zeroize::Zeroizing;

use super::wish::named;
use crate::authority::signing;
use crate::context::Context;
use crate::find;
use crate::gateway::certificate::remark;
use crate::keyring::{Keys, days_on, decoded, labels, random, random16};

/// How often the password of a bundle is worked on before it becomes a key; what every client still opens quickly.
const ITERATIONS: u32 = 100_000;
/// The same for `--for-old-clients`.
const OLD_ITERATIONS: u32 = 20_000;

/// The algorithms of the connection that profiles set up (RFC 8247): AES-256-GCM, SHA-256, the curve P-256.
const GROUP: u64 = 19;
/// Minutes after which the keys of a connection are made anew.
const LIFETIME: u64 = 480;

/// A form that devices' own software takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// One file with key, certificate and chain under a transport password (RFC 7292).
    Pkcs12 { old: bool },
    /// A folder of PEM files (RFC 7468), the key readable.
    Pem,
    /// A configuration profile for Apple's systems, signed.
    Apple,
    /// A PowerShell script for Windows.
    Windows,
    /// A bundle for Android.
    Android,
}

/// What is handed over.
pub struct Bundle {
    /// Names and contents; one, or the files of a folder.
    pub files: Vec<(String, Zeroizing<Vec<u8>>)>,
    /// What the device will meet and cannot mend: gateways without a certificate for what is dialled.
    pub notes: Vec<String>,
    /// What opens it, to be given by another way than the file.
    pub transport: Option<Zeroizing<String>>,
}

/// What goes into a bundle.
struct Parts {
    device: String,
    estate: String,
    leaf: Certificate,
    /// Below the root.
    chain: Vec<Certificate>,
    root: Certificate,
    key: Option<Secret>,
    gateways: Vec<(Gateway, Site)>,
    /// The listener of each that takes it, by the gateway's name.
    listeners: BTreeMap<String, Listener>,
    /// What stands above gateways' certificates that the estate did not make: roots, and what is below them.
    foreign: Vec<Certificate>,
    authority: Authority,
}

/// The listener of a gateway that takes a kind of proof.
fn taking(book: &Book<'_>, gateway: &str, proof: ProofKind) -> Result<Option<Listener>> {
    Ok(find::listeners_of(book, gateway)?.into_iter().find(|listener| listener.tunnel.proofs().contains(&proof)))
}

/// What is to be said before a certificate or an account is handed over: gateways at which nobody would take it.
///
/// # Errors
/// There is no such credential.
pub fn before(context: &mut Context, text: &str, kind: CredentialKind) -> Result<Vec<String>> {
    let (proof, option) = match kind {
        CredentialKind::Password => (ProofKind::Account, " --accounts"),
        _ => (ProofKind::Certificate, ""),
    };
    context.read(|book| {
        let credential = named(book, text, Some(kind))?;
        let mut notes = Vec::new();
        for gateway in credential.gateways() {
            if taking(book, &gateway, proof)?.is_none() {
                notes.push(format!(
                    "{gateway} has no listener that takes it: yestrel listener open {gateway} --tunnel ikev2{option}"
                ));
            }
        }
        if credential.account().is_some_and(|account| account.second_factor.is_some()) {
            notes.push(
                "built-in clients cannot be asked for a second factor: with one, it is for other equipment alone"
                    .into(),
            );
        }
        Ok(notes)
    })
}

fn gather(book: &Book<'_>, keys: &Keys, credential: &Credential) -> Result<Parts> {
    let held = credential.certificate().ok_or_else(|| Problem::failed("this credential is no certificate"))?;
    let issued: IssuedCertificate = book.need(&held.serial)?;
    let authority: Authority = book.need(&issued.authority)?;
    let (chain, root) = signing::chain(book, &authority)?;
    let sealed = credential.private_key();
    let key = sealed.map(|sealed| keys.sealing.open(sealed, &labels::credential(&credential.name))).transpose()?;
    let (mut gateways, mut listeners) = (Vec::new(), BTreeMap::new());
    for name in &held.gateways {
        let gateway: Gateway = book.need(name)?;
        listeners.extend(taking(book, name, ProofKind::Certificate)?.map(|listener| (name.clone(), listener)));
        let site = book.need(&gateway.site)?;
        gateways.push((gateway, site));
    }
    let mut foreign: Vec<Certificate> = Vec::new();
    for one in gateways.iter().filter_map(|(gateway, _)| gateway.certificate.as_ref()) {
        if one.authority.is_none() {
            let above = one.chain.iter().skip(1).chain(&one.root);
            foreign.extend(above.map(|text| decoded(text)).collect::<Result<Vec<_>>>()?);
        }
    }
    foreign.sort_by(|a, b| a.der().cmp(b.der()));
    foreign.dedup();
    Ok(Parts {
        device: credential.device.clone(),
        estate: find::this_estate(book)?.name,
        leaf: decoded(&issued.certificate)?,
        chain,
        root,
        key,
        gateways,
        listeners,
        foreign,
        authority,
    })
}

/// A password for the way: shown apart from the file.
fn transport() -> Result<Zeroizing<String>> {
    let made = account::readable(random16()?);
    Ok(Zeroizing::new(String::from_utf8_lossy(made.reveal()).into_owned()))
}

impl Parts {
    fn file(&self, ending: &str) -> String {
        format!("{}.{ending}", self.device.replace('/', "-"))
    }

    fn with_key(&self) -> Result<&Secret> {
        self.key.as_ref().ok_or_else(|| {
            Problem::refused(format!("the private key of {} is not here", self.device))
                .why("it was made on the device, so that no bundle can hold it")
                .try_("--as pem   for its certificate and the chain")
        })
    }

    fn first_gateway(&self) -> Result<&(Gateway, Site)> {
        self.gateways.first().ok_or_else(|| {
            Problem::refused(format!("{} has no gateway to come in at", self.device))
                .why("a profile sets a connection up, and needs to know where to")
                .try_("yestrel gateway create, then yestrel credential renew")
        })
    }

    /// PKCS#12 with the whole chain.
    fn pkcs12(&self, password: &str, old: bool) -> Result<Zeroizing<Vec<u8>>> {
        let failed =
            |error: p12_keystore::error::Error| Problem::failed("the bundle cannot be made").why(error.to_string());
        let key = HeldKey::from_der(self.with_key()?.reveal()).map_err(failed)?;
        let certificates: Vec<_> = std::iter::once(&self.leaf)
            .chain(&self.chain)
            .chain([&self.root])
            .map(|one| Held::from_der(one.der()))
            .collect::<std::result::Result<_, _>>()
            .map_err(failed)?;
        let mut store = KeyStore::new();
        let id = self.leaf.key_id().unwrap_or_else(|| vec![1]);
        let chain = PrivateKeyChain::new(id, key, certificates);
        store.add_entry(&self.device, KeyStoreEntry::PrivateKeyChain(chain));
        let writer = store.writer(password);
        let writer = if old {
            writer
                .encryption_algorithm(EncryptionAlgorithm::PbeWithShaAnd3KeyTripleDesCbc)
                .encryption_iterations(OLD_ITERATIONS)
                .mac_algorithm(MacAlgorithm::HmacSha1)
                .mac_iterations(OLD_ITERATIONS)
        } else {
            writer
                .encryption_algorithm(EncryptionAlgorithm::PbeWithHmacSha256AndAes256)
                .encryption_iterations(ITERATIONS)
                .mac_algorithm(MacAlgorithm::HmacSha256)
                .mac_iterations(ITERATIONS)
        };
        let bytes = Zeroizing::new(writer.write().map_err(failed)?);
        // What cannot be opened again must not be handed over: its key is erased with that.
        KeyStore::from_pkcs12(&bytes, password, Pkcs12ImportPolicy::Strict).map_err(failed)?;
        Ok(bytes)
    }

    /// Who signed a gateway's certificate, by the common name.
    fn issuer_of(&self, gateway: &Gateway) -> Result<String> {
        match gateway.certificate.as_ref().filter(|one| one.authority.is_none()) {
            Some(one) => {
                let leaf = one.chain.first().map(|text| decoded(text)).transpose()?;
                Ok(leaf.map(|leaf| leaf.issuer_name()).unwrap_or_default())
            }
            None => Ok(self.issuer_name()),
        }
    }

    /// Everything above gateways' certificates and its own: roots, and what stands below them.
    fn trusted(&self) -> (Vec<&Certificate>, Vec<&Certificate>) {
        let all = std::iter::once(&self.root).chain(&self.chain).chain(&self.foreign);
        all.partition(|one| one.is_root())
    }

    fn pem(&self) -> Vec<(String, Zeroizing<Vec<u8>>)> {
        let text = |text: String| Zeroizing::new(text.into_bytes());
        let chain: String = std::iter::once(&self.leaf).chain(&self.chain).map(Certificate::pem).collect();
        let mut files = vec![
            ("certificate.pem".to_owned(), text(self.leaf.pem())),
            ("chain.pem".to_owned(), text(chain)),
            ("authority.pem".to_owned(), text(self.root.pem())),
        ];
        if !self.foreign.is_empty() {
            files.push(("gateways.pem".to_owned(), text(self.foreign.iter().map(Certificate::pem).collect())));
        }
        if let Some(key) = &self.key {
            files.push(("key.pem".to_owned(), text(yestrel_core::x509::pem("PRIVATE KEY", key.reveal()))));
        }
        files
    }

    /// Ranges that go through the connection: as far as the listener reaches.
    fn ranges(&self, gateway: &Gateway, site: &Site) -> Vec<String> {
        let reach = self.listeners.get(&gateway.name).map(|listener| listener.reach.ranges(&site.networks));
        reach.as_ref().unwrap_or(&site.networks).iter().map(ToString::to_string).collect()
    }

    /// Whether everything goes through the connection.
    fn reaches_everything(&self, gateway: &Gateway) -> bool {
        self.listeners.get(&gateway.name).is_some_and(|listener| listener.reach == Reach::Everything)
    }

    /// A configuration profile for Apple's systems: authorities, identity, and one connection for each gateway.
    fn apple(&self, password: &str) -> Result<Zeroizing<Vec<u8>>> {
        self.first_gateway()?;
        let base = format!("example.{}.{}", self.estate, self.device.replace('/', "."));
        let payload = |kind: &str, name: &str, id: &str| -> Result<Dictionary> {
            let mut payload = Dictionary::new();
            payload.insert("PayloadType".into(), kind.into());
            payload.insert("PayloadVersion".into(), Value::from(1_u64));
            payload.insert("PayloadIdentifier".into(), format!("{base}.{id}").into());
            payload.insert("PayloadUUID".into(), uuid(random16()?).into());
            payload.insert("PayloadDisplayName".into(), name.into());
            Ok(payload)
        };
        let mut contents = Vec::new();
        let certificate_type = match key::strength(self.leaf.key())? {
            key::Strength::Rsa(_) => "RSA",
            key::Strength::P256 => "ECDSA256",
            key::Strength::P384 => "ECDSA384",
            key::Strength::Ed25519 => {
                return Err(Problem::refused("Apple's systems take no certificate with an Ed25519 key here")
                    .why("what their IKEv2 takes is RSA and ECDSA on P-256 and P-384")
                    .try_(format!("yestrel credential renew {} --kind certificate, with another key", self.device)));
            }
        };
        let (roots, below) = self.trusted();
        for (at, one) in roots.iter().enumerate() {
            let mut root = payload("com.apple.security.root", &one.common_name(), &format!("root{at}"))?;
            root.insert("PayloadContent".into(), Value::Data(one.der().to_vec()));
            contents.push(Value::Dictionary(root));
        }
        for (at, one) in below.iter().enumerate() {
            let mut above = payload("com.apple.security.pkcs1", &one.common_name(), &format!("authority{at}"))?;
            above.insert("PayloadContent".into(), Value::Data(one.der().to_vec()));
            contents.push(Value::Dictionary(above));
        }
        // The systems themselves still ask for the older form; without a password inside, they ask the person for it.
        let mut identity = payload("com.apple.security.pkcs12", &self.device, "identity")?;
        identity.insert("PayloadContent".into(), Value::Data(self.pkcs12(password, true)?.to_vec()));
        let identity_uuid = identity.get("PayloadUUID").cloned().unwrap_or_else(|| "".into());
        contents.push(Value::Dictionary(identity));
        for (gateway, _) in &self.gateways {
            let mut connection =
                payload("com.apple.vpn.managed", &gateway.name, &format!("connection.{}", gateway.name))?;
            connection.insert("UserDefinedName".into(), format!("{} {}", self.estate, gateway.name).into());
            connection.insert("VPNType".into(), "IKEv2".into());
            let mut ike = Dictionary::new();
            ike.insert("RemoteAddress".into(), gateway.dialled.as_str().into());
            ike.insert("RemoteIdentifier".into(), gateway.dialled.as_str().into());
            ike.insert("LocalIdentifier".into(), self.identifier().into());
            ike.insert("AuthenticationMethod".into(), "Certificate".into());
            ike.insert("CertificateType".into(), certificate_type.into());
            ike.insert("PayloadCertificateUUID".into(), identity_uuid.clone());
            ike.insert("ServerCertificateIssuerCommonName".into(), self.issuer_of(gateway)?.into());
            ike.insert("ExtendedAuthEnabled".into(), Value::from(0_u64));
            ike.insert("EnablePFS".into(), Value::from(1_u64));
            ike.insert("DeadPeerDetectionRate".into(), "Medium".into());
            for which in ["IKESecurityAssociationParameters", "ChildSecurityAssociationParameters"] {
                let mut parameters = Dictionary::new();
                parameters.insert("EncryptionAlgorithm".into(), "AES-256-GCM".into());
                parameters.insert("IntegrityAlgorithm".into(), "SHA2-256".into());
                parameters.insert("DiffieHellmanGroup".into(), Value::from(GROUP));
                parameters.insert("LifeTimeInMinutes".into(), Value::from(LIFETIME));
                ike.insert(which.into(), Value::Dictionary(parameters));
            }
            connection.insert("IKEv2".into(), Value::Dictionary(ike));
            contents.push(Value::Dictionary(connection));
        }
        let mut profile = payload("Configuration", &format!("{} for {}", self.estate, self.device), "profile")?;
        profile.insert("PayloadOrganization".into(), self.estate.as_str().into());
        profile.insert(
            "PayloadDescription".into(),
            format!("Lets {} into {}. It holds a private key.", self.device, self.gateway_names()).into(),
        );
        profile.insert("PayloadContent".into(), Value::Array(contents));
        let mut text = Zeroizing::new(Vec::new());
        Value::Dictionary(profile)
            .to_writer_xml(&mut *text)
            .map_err(|error| Problem::failed("the profile cannot be written").why(error.to_string()))?;
        Ok(text)
    }

    /// By what the device calls itself: the host name of its own in its certificate, so that the other end finds it there (RFC 4945 section
    /// 3.1.2) and no other device has the same.
    fn identifier(&self) -> String {
        let names = self.leaf.names().unwrap_or_default();
        let host = names.iter().find(|name| matches!(name, SubjectName::Host(_)));
        host.or(names.first()).map_or_else(|| self.device.clone(), ToString::to_string)
    }

    /// The authority that signs the gateways' certificates, by its common name.
    fn issuer_name(&self) -> String {
        self.chain.first().unwrap_or(&self.root).common_name()
    }

    fn gateway_names(&self) -> String {
        self.gateways.iter().map(|(gateway, _)| gateway.dialled.as_str()).collect::<Vec<_>>().join(", ")
    }

    /// A PowerShell script that imports each certificate into its store and adds the connections.
    fn windows(&self, password: &str) -> Result<Zeroizing<Vec<u8>>> {
        use base64::Engine as _;
        self.first_gateway()?;
        let encode = |bytes: &[u8]| Zeroizing::new(base64::engine::general_purpose::STANDARD.encode(bytes));
        let mut text = Zeroizing::new(String::new());
        let mut line = |line: &str| {
            text.push_str(line);
            text.push_str("\r\n");
        };
        line(&format!(
            "# Lets {} into {}. It holds a private key under a password.",
            self.device,
            self.gateway_names()
        ));
        line(
            "# For all users of this computer: the certificates go to its stores, the connections to everybody's list.",
        );
        line("#Requires -RunAsAdministrator");
        line("#Requires -Version 5.1");
        line("$ErrorActionPreference = 'Stop'");
        line("$password = Read-Host -AsSecureString 'The transport password'");
        line(&format!("$bundle = [Convert]::FromBase64String('{}')", *encode(&self.pkcs12(password, true)?)));
        line("$file = New-TemporaryFile");
        line("try {");
        line("    [IO.File]::WriteAllBytes($file.FullName, $bundle)");
        line(
            "    $identity = Import-PfxCertificate -FilePath $file.FullName -CertStoreLocation Cert:\\LocalMachine\\My \
             -Password $password",
        );
        line("} finally {");
        line("    Remove-Item -LiteralPath $file.FullName -Force");
        line("}");
        let (roots, below) = self.trusted();
        let stores = roots.into_iter().map(|one| (one, "Root")).chain(below.into_iter().map(|one| (one, "CA")));
        for (one, store) in stores {
            line("$file = New-TemporaryFile");
            line(&format!(
                "[IO.File]::WriteAllBytes($file.FullName, [Convert]::FromBase64String('{}'))",
                *encode(one.der())
            ));
            line(&format!(
                "Import-Certificate -FilePath $file.FullName -CertStoreLocation Cert:\\LocalMachine\\{store} | Out-Null"
            ));
            line("Remove-Item -LiteralPath $file.FullName -Force");
        }
        line("$issuer = Get-ChildItem Cert:\\LocalMachine\\Root, Cert:\\LocalMachine\\CA |");
        line(&format!(
            "    Where-Object {{ $_.Thumbprint -eq '{}' }} | Select-Object -First 1",
            thumbprint(self.chain.first().unwrap_or(&self.root))
        ));
        for (gateway, site) in &self.gateways {
            let name = format!("{} {}", self.estate, gateway.name);
            line(&format!("if (Get-VpnConnection -AllUserConnection -Name '{name}' -ErrorAction SilentlyContinue) {{"));
            line(&format!("    Remove-VpnConnection -AllUserConnection -Name '{name}' -Force"));
            line("}");
            line(&format!(
                "Add-VpnConnection -AllUserConnection -Name '{name}' -ServerAddress '{}' -TunnelType Ikev2 -AuthenticationMethod \
                 MachineCertificate -MachineCertificateIssuerFilter $issuer -EncryptionLevel Maximum{}{}",
                gateway.dialled,
                if self.reaches_everything(gateway) { "" } else { " -SplitTunneling" },
                match self.listeners.get(&gateway.name).and_then(|listener| listener.domains.first()) {
                    Some(domain) => format!(" -DnsSuffix '{domain}'"),
                    None => String::new(),
                }
            ));
            line(&format!(
                "Set-VpnConnectionIPsecConfiguration -AllUserConnection -ConnectionName '{name}' -AuthenticationTransformConstants \
                 GCMAES256 -CipherTransformConstants GCMAES256 -EncryptionMethod GCMAES256 -IntegrityCheckMethod \
                 SHA256 -DHGroup ECP256 -PfsGroup ECP256 -Force"
            ));
            let ranges = if self.reaches_everything(gateway) { Vec::new() } else { self.ranges(gateway, site) };
            for range in ranges {
                line(&format!(
                    "Add-VpnConnectionRoute -AllUserConnection -ConnectionName '{name}' -DestinationPrefix '{range}'"
                ));
            }
        }
        line(&format!(
            "Write-Host \"{} is set up for all users of this computer; its certificate is $($identity.Thumbprint)\"",
            self.device
        ));
        Ok(Zeroizing::new(text.as_bytes().to_vec()))
    }

    /// A bundle for Android: what its own settings import, and each step in words.
    fn android(&self, password: &str) -> Result<Zeroizing<Vec<u8>>> {
        let failed = |error: zip::result::ZipError| Problem::failed("the bundle cannot be made").why(error.to_string());
        let (gateway, _) = self.first_gateway()?;
        if !matches!(key::strength(self.leaf.key())?, key::Strength::Rsa(_)) {
            return Err(Problem::refused(format!("the certificate of {} has no RSA key", self.device))
                .why("the settings of Android offer IKEv2 with a certificate as \"IKEv2/IPSec RSA\" alone")
                .try_(format!("yestrel credential renew {} --kind certificate --key rsa-3072", self.device)));
        }
        // What stands above the gateway's certificate, which need not be what stands above the device's.
        let own = gateway.certificate.as_ref().is_none_or(|one| one.authority.is_some());
        let (roots, _) = self.trusted();
        let root =
            if own { &self.root } else { roots.into_iter().find(|one| **one != self.root).unwrap_or(&self.root) };
        let steps = format!(
            "For {device}\n\n1. Settings, Security, Encryption and credentials, Install a certificate:\n   CA certificate: \
             authority.crt\n   VPN and app user certificate: {file}; it asks for the transport password.\n2. Settings, \
             Network and internet, VPN, add one:\n   Name: {estate} {name}\n   Type: IKEv2/IPSec RSA\n   Server address: {dialled}\n   IPSec identifier: {identifier}\n   User certificate: \
             {device}\n   CA certificate: the one from step 1\n   Server certificate: received from server\n3. Compare the \
             authority's fingerprint (SHA-256) when you are asked to trust it:\n   {fingerprint}\n4. Delete these files.\n",
            device = self.device,
            file = self.file("p12"),
            estate = self.estate,
            name = gateway.name,
            dialled = gateway.dialled,
            identifier = self.identifier(),
            fingerprint = root.fingerprint(),
        );
        let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        let bundle = self.pkcs12(password, true)?;
        let files: [(&str, &[u8]); 3] =
            [(&self.file("p12"), &bundle), ("authority.crt", root.der()), ("steps.txt", steps.as_bytes())];
        for (name, bytes) in files {
            writer.start_file(name, options).map_err(failed)?;
            writer.write_all(bytes).map_err(|error| failed(error.into()))?;
        }
        Ok(Zeroizing::new(writer.finish().map_err(failed)?.into_inner()))
    }

    /// Signs a text with a certificate that is made for it and lives a day.
    fn signed(&self, book: &Book<'_>, keys: &Keys, text: &[u8]) -> Result<Zeroizing<Vec<u8>>> {
        let now = book.now;
        let by = keys.signing(book, self.authority.clone())?;
        let key = PrivateKey::generate(Algorithm::P256, &random())?;
        let common_name = format!("{} handovers", self.estate);
        let wanted = Wanted {
            serial: random16()?,
            organisation: &self.estate,
            common_name: Some(&common_name),
            names: &[],
            key: key.public(),
            from: now,
            // Devices look at it long after it was used.
            until: days_on(now, 365).min(by.certificate.not_after()),
            purpose: Purpose::Signer,
            points: &Points::default(),
        };
        let signer = certificate::issue(&wanted, &by.issuer(), &random())?;
        signing::record(book, &by.authority.name, CertificateKind::Signer, &self.device, &signer, now)?;
        let chain: Vec<_> = std::iter::once(&signer).chain(&self.chain).cloned().collect();
        signed::sign(text, &chain, &key, now, &random()).map(Zeroizing::new)
    }
}

/// A version 4 UUID (RFC 9562 section 5.4) of random bytes.
fn uuid(mut bytes: [u8; 16]) -> String {
    bytes[6] = bytes[6] & 0x0f | 0x40;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    let hex: String = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
    [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
}

/// By what the store of Windows finds a certificate: SHA-1 of its DER.
fn thumbprint(certificate: &Certificate) -> String {
    let digest = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, certificate.der());
    digest.as_ref().iter().map(|byte| format!("{byte:02X}")).collect()
}

/// Hands a certificate over in a form. `deliver` must have put it somewhere safe when it returns; only then is the private key
/// erased from the estate.
///
/// # Errors
/// Revoked, handed over already, no private key for a form that needs one, or `deliver` fails: then nothing has changed.
pub fn hand_over(
    context: &mut Context,
    text: &str,
    form: Form,
    deliver: impl FnOnce(&Bundle) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::Certificate))?;
        may_hand_over(&credential, credential.private_key().is_some() || credential.made_on_device())?;
        let parts = gather(book, &keys, &credential)?;
        let transport = transport()?;
        let one = |ending: &str, bytes| vec![(parts.file(ending), bytes)];
        let files = match form {
            Form::Pkcs12 { old } => one("p12", parts.pkcs12(&transport, old)?),
            Form::Pem => parts.pem(),
            Form::Apple => {
                let profile = parts.apple(&transport)?;
                one("mobileconfig", parts.signed(book, &keys, &profile)?)
            }
            Form::Windows => one("ps1", parts.windows(&transport)?),
            Form::Android => one("zip", parts.android(&transport)?),
        };
        let mut notes = Vec::new();
        for (gateway, _) in &parts.gateways {
            if let Some(words) = remark(book, gateway)? {
                notes.push(format!("{}: {words}", gateway.name));
            } else if gateway.certificate.is_none() {
                notes.push(format!(
                    "{} has no certificate yet, by which a device would know it: yestrel rollout makes it",
                    gateway.name
                ));
            }
        }
        let bundle = Bundle { notes, files, transport: (form != Form::Pem).then_some(transport) };
        credential.handed_over = Some(book.now);
        credential.set_private_key(None);
        book.put(&credential)?;
        book.note("credential handover", &credential.name, &format!("as {}", word(form)))?;
        deliver(&bundle)?;
        Ok(credential)
    })
}

/// What is to be shown of a certificate.
pub struct Shown {
    pub authority: String,
    pub fingerprint: String,
    pub names: Vec<String>,
    pub strength: String,
    /// What lists say of it, with why.
    pub state: String,
}

/// A certificate that the estate signed, by its serial number.
///
/// # Errors
/// There is none.
pub fn certificate(context: &mut Context, serial: &str) -> Result<Shown> {
    context.read(|book| {
        let issued: IssuedCertificate = book.need(serial)?;
        let certificate = decoded(&issued.certificate)?;
        let reason = issued.reason.map(|reason| format!(": {}", reason.word())).unwrap_or_default();
        Ok(Shown {
            authority: issued.authority,
            fingerprint: certificate.fingerprint(),
            names: certificate.names()?.iter().map(ToString::to_string).collect(),
            strength: key::strength(certificate.key())?.to_string(),
            state: format!("{}{reason}", issued.state.word()),
        })
    })
}

/// The word for a form, as commands take it.
#[must_use]
pub fn word(form: Form) -> &'static str {
    match form {
        Form::Pkcs12 { old: false } => "pkcs12",
        Form::Pkcs12 { old: true } => "pkcs12 for old clients",
        Form::Pem => "pem",
        Form::Apple => "apple",
        Form::Windows => "windows",
        Form::Android => "android",
    }
}

fn may_hand_over(credential: &Credential, something_left: bool) -> Result<()> {
    if credential.revoked.is_some() {
        return Err(Problem::refused(format!("{} is revoked", credential.name))
            .try_(format!("yestrel credential issue {}", credential.device)));
    }
    match credential.handed_over {
        Some(at) if !something_left => Err(Problem::refused(format!("{} was handed over already", credential.name))
            .why(format!("on {}; its secrets were erased here with that, so there is no second copy", moment(at)))
            .try_(format!("yestrel credential renew {}   makes a new one", credential.device))),
        _ => Ok(()),
    }
}

/// What an account's holder is told.
pub struct Told {
    pub account: String,
    /// A password that was made here.
    pub password: Option<Zeroizing<String>>,
    /// What an authenticator scans.
    pub second_factor: Option<Zeroizing<String>>,
    /// Where it comes in with what systems have built in: name or address, and which authority the device has to trust.
    pub at: Vec<(String, String)>,
}

/// Hands an account over: the password that was made here, and the second factor. Both are told once.
///
/// # Errors
/// As [`hand_over`].
pub fn hand_over_account(
    context: &mut Context,
    text: &str,
    deliver: impl FnOnce(&Told) -> Result<()>,
) -> Result<Credential> {
    let keys = context.keys()?;
    context.write(|book| {
        let mut credential = named(book, text, Some(CredentialKind::Password))?;
        let name = credential.name.clone();
        let estate = find::this_estate(book)?.name;
        let account = credential.account_mut().cloned();
        let waits = account.as_ref().is_some_and(|account| {
            account.generated.is_some() || account.second_factor.as_ref().is_some_and(|second| !second.handed_over)
        });
        let mut at = Vec::new();
        for gateway in credential.gateways() {
            if taking(book, &gateway, ProofKind::Account)?.is_some() {
                let gateway: Gateway = book.need(&gateway)?;
                let by = gateway.certificate.as_ref().and_then(|one| one.authority.clone()).unwrap_or_default();
                at.push((gateway.dialled, by));
            }
        }
        let account = credential.account_mut();
        let mut told = Told { account: String::new(), password: None, second_factor: None, at };
        if let Some(account) = account {
            told.account.clone_from(&account.name);
            if let Some(sealed) = account.generated.take() {
                let secret = keys.sealing.open(&sealed, &labels::credential(&name))?;
                told.password = Some(Zeroizing::new(String::from_utf8_lossy(secret.reveal()).into_owned()));
            }
            if let Some(second) = account.second_factor.as_mut().filter(|second| !second.handed_over) {
                let secret = keys.sealing.open(&second.secret, &labels::second_factor(&name))?;
                told.second_factor = Some(account::scan(&estate, &account.name, &secret));
                second.handed_over = true;
            }
        }
        may_hand_over(&credential, waits)?;
        credential.handed_over = Some(book.now);
        book.put(&credential)?;
        book.note("credential handover", &name, "as an account")?;
        deliver(&told)?;
        Ok(credential)
    })
}
