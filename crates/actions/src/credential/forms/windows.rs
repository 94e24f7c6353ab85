//! A PowerShell script for Windows: imports each certificate into its store and adds the connections, for all users of a computer; with an
//! account for the person who runs it.

use base64::Engine as _;
use yestrel_core::Result;
use yestrel_core::x509::Certificate;
use zeroize::Zeroizing;

use super::parts::{Parts, Who};

/// By what the store of Windows finds a certificate: SHA-1 of its DER.
fn thumbprint(certificate: &Certificate) -> String {
    let digest = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, certificate.der());
    digest.as_ref().iter().map(|byte| format!("{byte:02X}")).collect()
}

fn encode(bytes: &[u8]) -> Zeroizing<String> {
    Zeroizing::new(base64::engine::general_purpose::STANDARD.encode(bytes))
}

/// The lines of a script.
struct Lines(Zeroizing<String>);

impl Lines {
    fn add(&mut self, line: &str) {
        self.0.push_str(line);
        self.0.push_str("\r\n");
    }

    fn all(&mut self, lines: &[&str]) {
        lines.iter().for_each(|line| self.add(line));
    }
}

/// The script.
pub(super) fn script(parts: &Parts, transport: &str) -> Result<Zeroizing<Vec<u8>>> {
    parts.first_gateway()?;
    let mut lines = Lines(Zeroizing::new(String::new()));
    lines.add(&format!("# Lets {} into {}. {}", parts.device, parts.gateway_names(), parts.holds()));
    lines.all(&[
        "# The certificates go to the stores of this computer, the connections to everybody's list.",
        "#Requires -RunAsAdministrator",
        "#Requires -Version 5.1",
        "$ErrorActionPreference = 'Stop'",
    ]);
    if let Who::Certificate { .. } = parts.who {
        lines.add("$password = Read-Host -AsSecureString 'The transport password'");
        lines.add(&format!("$bundle = [Convert]::FromBase64String('{}')", *encode(&parts.pkcs12(transport, true)?)));
        lines.all(&[
            "$file = New-TemporaryFile",
            "try {",
            "    [IO.File]::WriteAllBytes($file.FullName, $bundle)",
            "    $identity = Import-PfxCertificate -FilePath $file.FullName -CertStoreLocation Cert:\\LocalMachine\\My -Password $password",
            "} finally {",
            "    Remove-Item -LiteralPath $file.FullName -Force",
            "}",
        ]);
    }
    let (roots, below) = parts.trusted();
    let stores = roots.into_iter().map(|one| (one, "Root")).chain(below.into_iter().map(|one| (one, "CA")));
    for (one, store) in stores {
        lines.add("$file = New-TemporaryFile");
        lines.add(&format!(
            "[IO.File]::WriteAllBytes($file.FullName, [Convert]::FromBase64String('{}'))",
            *encode(one.der())
        ));
        lines.add(&format!(
            "Import-Certificate -FilePath $file.FullName -CertStoreLocation Cert:\\LocalMachine\\{store} | Out-Null"
        ));
        lines.add("Remove-Item -LiteralPath $file.FullName -Force");
    }
    if let Some(issuer) = parts.own_issuer() {
        lines.add("$issuer = Get-ChildItem Cert:\\LocalMachine\\Root, Cert:\\LocalMachine\\CA |");
        lines.add(&format!(
            "    Where-Object {{ $_.Thumbprint -eq '{}' }} | Select-Object -First 1",
            thumbprint(issuer)
        ));
    }
    for (gateway, site) in &parts.gateways {
        let name = format!("{} {}", parts.estate, gateway.name);
        lines
            .add(&format!("if (Get-VpnConnection -AllUserConnection -Name '{name}' -ErrorAction SilentlyContinue) {{"));
        lines.add(&format!("    Remove-VpnConnection -AllUserConnection -Name '{name}' -Force"));
        lines.add("}");
        let everything = parts.reaches_everything(gateway);
        let listener = parts.listeners.get(&gateway.name);
        let split = if everything { "" } else { " -SplitTunneling" };
        let suffix = listener.and_then(|listener| listener.domains.first());
        let suffix = suffix.map(|domain| format!(" -DnsSuffix '{domain}'")).unwrap_or_default();
        let how = match &parts.who {
            Who::Certificate { .. } => "MachineCertificate -MachineCertificateIssuerFilter $issuer",
            // What it makes by itself is MS-CHAPv2; the server's certificate is checked by IKE before it.
            Who::Account { .. } => {
                "Eap -EapConfigXmlStream (New-EapConfiguration).EapConfigXmlStream -RememberCredential"
            }
        };
        lines.add(&format!(
            "Add-VpnConnection -AllUserConnection -Name '{name}' -ServerAddress '{}' -TunnelType Ikev2 -AuthenticationMethod \
             {how} -EncryptionLevel Maximum{split}{suffix}",
            gateway.dialled,
        ));
        // What the system offers by itself is outdated, and refused.
        lines.add(&format!(
            "Set-VpnConnectionIPsecConfiguration -AllUserConnection -ConnectionName '{name}' -AuthenticationTransformConstants \
             GCMAES256 -CipherTransformConstants GCMAES256 -EncryptionMethod GCMAES256 -IntegrityCheckMethod \
             SHA256 -DHGroup ECP256 -PfsGroup ECP256 -Force"
        ));
        let ranges = if everything { Vec::new() } else { parts.ranges(gateway, site) };
        for range in ranges {
            lines.add(&format!(
                "Add-VpnConnectionRoute -AllUserConnection -ConnectionName '{name}' -DestinationPrefix '{range}'"
            ));
        }
    }
    match &parts.who {
        Who::Certificate { .. } => lines.add(&format!(
            "Write-Host \"{} is set up for all users of this computer; its certificate is $($identity.Thumbprint)\"",
            parts.device
        )),
        Who::Account { name, .. } => lines.add(&format!(
            "Write-Host \"{} is set up for all users of this computer; sign in as {name}\"",
            parts.device
        )),
    }
    Ok(Zeroizing::new(lines.0.as_bytes().to_vec()))
}
