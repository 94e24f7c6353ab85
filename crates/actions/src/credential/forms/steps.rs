//! The page of steps beside a handover: what a person does with it, and how they know that it is right. It holds no secret.

use yestrel_core::Result;
use yestrel_core::estate::Gateway;

use super::form::{Form, word};
use super::parts::{Parts, Who};

/// The steps of one way in, for who sets it up by hand.
fn by_hand(parts: &Parts, gateway: &Gateway) -> Vec<String> {
    let mut steps = vec![
        "   type                IKEv2".to_owned(),
        format!("   server              {}", gateway.dialled),
        format!("   remote id           {}", gateway.dialled),
    ];
    match &parts.who {
        Who::Certificate { .. } => {
            steps.push(format!("   local id            {}", parts.identifier()));
            steps.push(format!("   proof               the certificate of {}", parts.device));
        }
        Who::Account { name, .. } => {
            steps.push("   proof               user name and password (EAP-MSCHAPv2)".into());
            steps.push(format!("   user name           {name}"));
        }
    }
    steps.push(
        "   algorithms          AES-256-GCM or AES-256 with SHA-256; Curve25519, P-256, or MODP 2048 at least".into(),
    );
    let listener = parts.listeners.get(&gateway.name);
    if let Some(domains) = listener.map(|listener| listener.domains.join(", ")).filter(|all| !all.is_empty()) {
        steps.push(format!("   names at the site   {domains}"));
    }
    steps
}

/// The page.
pub(super) fn page(parts: &Parts, form: Form, file: &str) -> Result<String> {
    let (gateway, _) = parts.first_gateway()?;
    let root = parts.root_above_gateway()?;
    let account = matches!(parts.who, Who::Account { .. });
    let connection = format!("{} {}", parts.estate, gateway.name);
    let mut steps: Vec<String> = Vec::new();
    let mut lines = vec![format!("{} for {}", word(form), parts.device), String::new()];
    match form {
        Form::Apple => {
            steps.push(format!("Open {file} on the device: from a mail, or from the files of the device."));
            steps.push("Settings, General, VPN and device management (on a Mac: System settings, General, Device management): the profile waits there. Install it.".into());
            if !account {
                steps.push("It asks for the transport password, which came another way than this file.".into());
            } else if parts.asks_for_password() {
                steps.push("It asks for the password of the account.".into());
            }
            steps.push(format!("Settings, VPN: {connection}. Touch its switch."));
            if parts.on_demand {
                steps.push("From then on it connects by itself where it is needed.".into());
            }
        }
        Form::Windows => {
            steps.push(format!("In a PowerShell as administrator: powershell -ExecutionPolicy Bypass -File {file}"));
            if !account {
                steps.push("It asks for the transport password, which came another way than this file.".into());
            }
            steps.push(format!("Settings, Network and internet, VPN: {connection}, Connect."));
            if let Who::Account { name, .. } = &parts.who {
                steps
                    .push(format!("It asks for user name and password once: {name}, and the password of the account."));
            }
        }
        Form::Android => {
            steps.push(
                "Settings, Security, Encryption and credentials, Install a certificate, CA certificate: authority.crt"
                    .into(),
            );
            if !account {
                steps.push(format!(
                    "The same place, VPN and app user certificate: {}. It asks for the transport password.",
                    parts.file("p12")
                ));
            }
            steps.push("Settings, Network and internet, VPN, add one:".into());
        }
        Form::Pkcs12 { .. } | Form::Pem => {
            steps.push(format!("Import {file} into the store of the program or system that is to use it."));
            steps.push("Set a connection up:".into());
        }
    }
    for (at, step) in steps.iter().enumerate() {
        lines.push(format!("{}. {step}", at + 1));
    }
    match form {
        Form::Android => {
            let kind = if account { "IKEv2/IPSec MSCHAPv2" } else { "IKEv2/IPSec RSA" };
            lines.push(format!("   Name: {connection}\n   Type: {kind}\n   Server address: {}", gateway.dialled));
            lines.push(format!("   IPSec identifier: {}", parts.identifier()));
            match &parts.who {
                Who::Certificate { .. } => lines.push(format!("   User certificate: {}", parts.device)),
                Who::Account { name, .. } => lines.push(format!("   Username: {name}; the password of the account")),
            }
            lines.push("   CA certificate: the one from step 1\n   Server certificate: received from server".into());
        }
        Form::Pkcs12 { .. } | Form::Pem => lines.extend(by_hand(parts, gateway)),
        Form::Apple | Form::Windows => {}
    }
    lines.push(String::new());
    lines.push(format!(
        "Compare the authority's fingerprint (SHA-256) when you are asked to trust it:\n   {}",
        root.fingerprint()
    ));
    lines.push(format!(
        "Where it does not connect: yestrel session list --past --refused, on the administrator's side, says at which step.\n{}",
        if account && !parts.holds_secret() { "This page and the file hold no secret." } else { "Delete the file once it is set up; this page holds no secret." }
    ));
    lines.push(String::new());
    Ok(lines.join("\n"))
}
