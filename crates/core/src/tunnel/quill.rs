//! The tunnel quill: its settings, and what a handover tells of it.

use serde::{Deserialize, Serialize};

use crate::keys::PublicKey;
use crate::{Problem, Result};

/// The word for it.
pub const WORD: &str = "quill";

/// What protects datagrams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Cipher {
    /// Fast where the processor has instructions for AES.
    #[serde(rename = "aes-256-gcm")]
    Aes256Gcm,
    /// RFC 8439; fast everywhere.
    #[serde(rename = "chacha20-poly1305")]
    ChaCha20Poly1305,
}

impl Cipher {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Aes256Gcm => "aes-256-gcm",
            Self::ChaCha20Poly1305 => "chacha20-poly1305",
        }
    }
}

impl std::fmt::Display for Cipher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.word())
    }
}

impl std::str::FromStr for Cipher {
    type Err = Problem;

    fn from_str(text: &str) -> Result<Self> {
        [Self::Aes256Gcm, Self::ChaCha20Poly1305].into_iter().find(|cipher| cipher.word() == text).ok_or_else(|| {
            Problem::words(format!("the quill tunnel has no cipher {text:?}"))
                .why("it has aes-256-gcm and chacha20-poly1305")
        })
    }
}

/// What a listener with this tunnel has of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quill {
    pub cipher: Cipher,
}

impl Quill {
    /// The cipher that suits a host's processor.
    #[must_use]
    pub fn for_host(fast_aes: bool) -> Self {
        Self { cipher: if fast_aes { Cipher::Aes256Gcm } else { Cipher::ChaCha20Poly1305 } }
    }
}

/// What a handover tells of a way in by this tunnel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct QuillWay {
    pub cipher: Cipher,
    /// The gateway's public X25519 key.
    pub server_key: PublicKey,
}
