//! Which forms there are, and the words for them.

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
