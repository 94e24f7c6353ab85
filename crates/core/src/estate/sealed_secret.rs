//! A secret as the store keeps it.

use serde::{Deserialize, Serialize};

/// A secret as the store keeps it: sealed, base64. It can be stored and shown without harm.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SealedSecret(pub String);
