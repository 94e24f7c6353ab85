//! The words for the forms of a handover.

use clap::ValueEnum;

#[derive(Clone, Copy, ValueEnum)]
pub enum FormName {
    /// One file with key, certificate and chain under a transport password
    Pkcs12,
    /// A folder of PEM files, the key readable
    Pem,
    /// A signed configuration profile
    Apple,
    /// A PowerShell script
    Windows,
    /// A bundle with steps
    Android,
}
