//! Orders that hold for a time are renewed by every command that reaches their gateway.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use yestrel_core::Result;
use yestrel_core::estate::{Access, Gateway};
use yestrel_core::exchange::Answered;
use yestrel_core::exchange::agent::Renew;
use yestrel_core::exchange::host::{Agent, Ask};
use yestrel_core::order::SignedRenewal;
use yestrel_places::Manage;
use yestrel_store::{Book, SealingKey};

use crate::find;
use crate::keyring::labels;

/// What the estate says now; `None` where its orders hold for ever.
pub(crate) fn sign(book: &Book<'_>, key: &SealingKey) -> Result<Option<SignedRenewal>> {
    let estate = find::this_estate(book)?;
    if estate.orders_hold.is_none() {
        return Ok(None);
    }
    let mut orders = BTreeMap::new();
    for gateway in book.all::<Gateway>()? {
        let newest = book.newest_number(&gateway.name)?;
        if newest > 0 {
            // As its agent is called by that order: another name waits for the next.
            let kept = book.order_kept(&gateway.name, newest)?;
            let settings = kept.map(|kept| book.settings_of(&kept)).transpose()?.flatten();
            orders.insert(settings.map_or(gateway.name, |settings| settings.gateway), newest);
        }
    }
    let signing = key.open(&estate.private_key, labels::SIGNING)?;
    SignedRenewal::sign(&estate.id, book.now, orders, &signing).map(Some)
}

/// A way to manage a host by which its agent is renewed as soon as it has answered.
pub(crate) struct Renewing {
    pub way: Arc<dyn Manage>,
    pub renewal: SignedRenewal,
    pub done: AtomicBool,
}

impl Manage for Renewing {
    fn exchange(&self, question: &Ask) -> Result<Answered> {
        let answered = self.way.exchange(question)?;
        if matches!(question, Ask::Agent(_)) && !self.done.swap(true, Ordering::Relaxed) {
            // Whoever cannot be renewed is not kept from anything else; the agent says so by itself.
            let renew = Renew { renewal: self.renewal.clone() };
            let _ = self.way.exchange(&Agent { question: renew.into() }.into());
        }
        Ok(answered)
    }

    fn as_it_is(&self) {
        self.way.as_it_is();
    }

    fn afresh(&self) {
        self.way.afresh();
        // What was carried meanwhile may be what the renewal is about.
        self.done.store(false, Ordering::Relaxed);
    }

    fn leave(&self) -> Result<()> {
        self.way.leave()
    }

    fn access(&self) -> Access {
        self.way.access()
    }
}
