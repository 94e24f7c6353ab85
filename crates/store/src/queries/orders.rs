//! Orders: the newest of a gateway, whole or put together from what was amended.

use std::collections::BTreeSet;

use jiff::Timestamp;
use yestrel_core::estate::{OrderKept, OrderText, Revocation, StoredOrder};
use yestrel_core::order::{Admit, Content, Envelope, Excerpt, SignedAmendment, excerpt};
use yestrel_core::{Problem, Result};

use crate::book::Book;
use crate::records::Readable;
use crate::rows::{Cell, Link, Query};

/// In the place of a device: anybody's entries may be other than they are.
const ANYBODY: &str = "*";

#[derive(serde::Deserialize)]
struct SettingsOf {
    settings: Option<String>,
}

impl Readable for SettingsOf {
    const TABLE: &'static str = "orders";
    const NOUN: &'static str = "order";
    const COLUMNS: &'static [&'static str] = &["settings"];
}

impl Readable for OrderKept {
    const TABLE: &'static str = "orders";
    const NOUN: &'static str = "order";
    const COLUMNS: &'static [&'static str] =
        &["name", "gateway", "number", "base", "hash", "size", "amended", "made", "received"];
}

impl Book<'_> {
    /// The number of the newest order that was made for a gateway; 0 for none.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn newest_number(&self, gateway: &str) -> Result<u64> {
        self.rows.greatest(StoredOrder::TABLE, "number", &[("gateway", gateway.into())])
    }

    /// What is known of an order without its text.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn order_kept(&self, gateway: &str, number: u64) -> Result<Option<OrderKept>> {
        self.get(&StoredOrder::name_of(gateway, number))
    }

    /// What is known of the newest order that was made for a gateway, without its text.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn newest_kept(&self, gateway: &str) -> Result<Option<OrderKept>> {
        self.order_kept(gateway, self.newest_number(gateway)?)
    }

    /// An order as it travels, with what was amended since it was whole.
    ///
    /// # Errors
    /// The database cannot be read, or the order is so old that its text is not kept.
    pub fn envelope(&self, gateway: &str, number: u64) -> Result<Option<Envelope>> {
        let Some(kept) = self.order_kept(gateway, number)? else { return Ok(None) };
        let whole: StoredOrder = self.need(&StoredOrder::name_of(gateway, kept.base))?;
        let order = self.order_text(gateway, kept.base)?;
        let mut amendments = Vec::new();
        for number in kept.base + 1..=number {
            amendments.push(self.amendment(gateway, number)?);
        }
        let StoredOrder { signature, successor_signature, .. } = whole;
        Ok(Some(Envelope { order, signature, successor_signature, amendments }))
    }

    fn order_text(&self, gateway: &str, number: u64) -> Result<String> {
        let kept: Option<OrderText> = self.get(&StoredOrder::name_of(gateway, number))?;
        kept.map(|kept| kept.text).ok_or_else(|| {
            Problem::failed(format!("the text of order {number} of {gateway} is not kept any more"))
                .why("of old orders only the hash is")
        })
    }

    /// The amendment by which an order came about.
    ///
    /// # Errors
    /// The database cannot be read, or there is none.
    pub fn amendment(&self, gateway: &str, number: u64) -> Result<SignedAmendment> {
        let StoredOrder { signature, .. } = self.need(&StoredOrder::name_of(gateway, number))?;
        Ok(SignedAmendment { amendment: self.order_text(gateway, number)?, signature })
    }

    /// What an order says of some devices, and which of these identities it names as revoked, without reading all of it. `None`: there is no such order,
    /// or it must be read whole.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn excerpt(
        &self,
        kept: &OrderKept,
        devices: &BTreeSet<String>,
        identities: &BTreeSet<String>,
    ) -> Result<Option<Excerpt>> {
        let mut found = Excerpt::default();
        let mut open = devices.clone();
        // The newest first: each device has what the last amendment that names it says.
        for number in (kept.base..=kept.number).rev() {
            let mut read = false;
            let name = StoredOrder::name_of(&kept.gateway, number);
            let filters = [("name", name.as_str().into())];
            let query = Query { table: OrderText::TABLE, columns: &["text"], filters: &filters, ..Query::default() };
            self.rows.each(&query, &mut |view| {
                let Cell::Text(text) = view.cell(0)? else { return Ok(false) };
                if number > kept.base {
                    let signed = SignedAmendment { amendment: text.to_owned(), signature: String::new() };
                    let amendment = signed.read()?;
                    let here = |admit: &Admit| open.contains(&admit.device);
                    found.admit.extend(amendment.admit.into_iter().filter(here));
                    let asked = amendment.revoked.into_iter().filter(|(one, _)| identities.contains(one));
                    // What a later one says of it stands.
                    for (one, revoked) in asked {
                        found.revoked.entry(one).or_insert(revoked);
                    }
                    open.retain(|device| !amendment.devices.contains(device));
                    read = true;
                } else if let Some(Excerpt { admit, revoked }) = excerpt(text, &open, identities) {
                    found.admit.extend(admit);
                    for (one, revoked) in revoked {
                        found.revoked.entry(one).or_insert(revoked);
                    }
                    read = true;
                }
                Ok(false)
            })?;
            if !read {
                return Ok(None);
            }
        }
        // Whatever names a revoked identity is out, whoever it stands for.
        found.admit.retain(|admit| !found.revoked.contains_key(&admit.proof.identity().to_string()));
        Ok(Some(found))
    }

    /// Whether the text in which a gateway's order stands names this identity as admitted or revoked.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn order_names(&self, gateway: &str, number: u64, identity: &str) -> Result<bool> {
        let Some(kept) = self.order_kept(gateway, number)? else { return Ok(false) };
        for number in (kept.base..=kept.number).rev() {
            if self.rows.holds(OrderText::TABLE, "text", &StoredOrder::name_of(gateway, number), identity)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Keeps an order that was signed, and what it was amended by since.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn keep_order(
        &self,
        gateway: &str,
        number: u64,
        made: Timestamp,
        envelope: &Envelope,
        settings: Option<&Content>,
    ) -> Result<()> {
        let base = number - envelope.amendments.len() as u64;
        let mut row = StoredOrder {
            name: StoredOrder::name_of(gateway, base),
            gateway: gateway.to_owned(),
            number: base,
            base,
            hash: Envelope { amendments: Vec::new(), ..envelope.clone() }.hash(),
            settings: settings.and_then(|settings| serde_json::to_string(settings).ok()),
            size: envelope.order.len() as u64,
            amended: 0,
            signature: envelope.signature.clone(),
            successor_signature: envelope.successor_signature.clone(),
            made,
            received: None,
        };
        self.put(&row)?;
        self.put(&OrderText { name: row.name.clone(), text: envelope.order.clone() })?;
        for (number, signed) in (base + 1..).zip(&envelope.amendments) {
            row.amended += signed.amendment.len() as u64;
            row = StoredOrder {
                name: StoredOrder::name_of(gateway, number),
                number,
                hash: signed.hash(),
                signature: signed.signature.clone(),
                successor_signature: None,
                settings: None,
                ..row
            };
            self.put(&row)?;
            self.put(&OrderText { name: row.name.clone(), text: signed.amendment.clone() })?;
        }
        Ok(())
    }

    /// Keeps an amendment to an order.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn keep_amendment(&self, to: &OrderKept, signed: &SignedAmendment) -> Result<()> {
        let number = to.number + 1;
        let name = StoredOrder::name_of(&to.gateway, number);
        self.put(&OrderText { name: name.clone(), text: signed.amendment.clone() })?;
        self.put(&StoredOrder {
            name,
            gateway: to.gateway.clone(),
            number,
            base: to.base,
            hash: signed.hash(),
            settings: None,
            size: to.size,
            amended: to.amended + signed.amendment.len() as u64,
            signature: signed.signature.clone(),
            successor_signature: None,
            made: self.now,
            received: None,
        })
    }

    /// Everything that an order says but of people; `None` where that was not kept.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn settings_of(&self, kept: &OrderKept) -> Result<Option<Content>> {
        let whole: Option<SettingsOf> = self.get(&StoredOrder::name_of(&kept.gateway, kept.base))?;
        Ok(whole.and_then(|whole| serde_json::from_str(&whole.settings?).ok()))
    }

    /// Devices whose entries in the next order of a gateway may be other than in its newest, at most `most`; `None`: there are more, or it may be
    /// anybody's.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn pending(&self, gateway: &str, most: usize) -> Result<Option<BTreeSet<String>>> {
        let all = self.rows.pending(gateway, most + 1)?;
        Ok(Some(all).filter(|all| all.len() <= most && !all.contains(ANYBODY)))
    }

    /// Revocations that a gateway must know and that its newest order may not name; `None`: it may be any.
    ///
    /// # Errors
    /// The database cannot be read.
    pub fn revoked_and_pending(&self, gateway: &str) -> Result<Option<Vec<Revocation>>> {
        // In their order, nobody stands before the one that is for anybody.
        if self.rows.pending(gateway, 1)?.contains(ANYBODY) {
            return Ok(None);
        }
        let mut all: Vec<Revocation> =
            self.ask(&Query { linked: Some((Link::Pending, gateway)), ..Query::default() })?;
        all.retain(|one| one.gateways.iter().any(|at| at == gateway));
        Ok(Some(all))
    }

    /// The newest order of a gateway says what is so of these devices; of everybody, where none is named.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn settled(&self, gateway: &str, devices: Option<&BTreeSet<String>>) -> Result<()> {
        self.rows.settle(gateway, devices)
    }

    /// What the newest order of a gateway says may be other than what is so, of anybody.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn unsettled(&self, gateway: &str) -> Result<()> {
        self.rows.unsettle(gateway, ANYBODY)
    }

    /// A gateway's agent has confirmed an order.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn order_received(&self, gateway: &str, number: u64, at: Timestamp) -> Result<()> {
        let name = StoredOrder::name_of(gateway, number);
        self.rows.set(StoredOrder::TABLE, &name, &[("received", at.to_string().into())])
    }

    /// The orders of a gateway stand under its other name; what was signed stays as it is. Of anybody there the next may say something else.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn rename_orders(&self, old: &str, new: &str) -> Result<()> {
        for order in self.find::<StoredOrder>(&[("gateway", old.into())])? {
            let (before, name) = (order.name.clone(), StoredOrder::name_of(new, order.number));
            if let Some(text) = self.get::<OrderText>(&before)? {
                self.remove::<OrderText>(&before)?;
                self.put(&OrderText { name: name.clone(), text: text.text })?;
            }
            self.remove::<StoredOrder>(&before)?;
            self.put(&StoredOrder { name, gateway: new.to_owned(), ..order })?;
        }
        self.rows.settle(old, None)?;
        self.unsettled(new)
    }

    /// Forgets every order of a gateway.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn forget_orders(&self, gateway: &str) -> Result<()> {
        for order in self.find::<OrderKept>(&[("gateway", gateway.into())])? {
            self.remove::<OrderText>(&order.name)?;
            self.remove::<StoredOrder>(&order.name)?;
        }
        Ok(())
    }

    /// Forgets the texts of old orders; hashes stay. What is kept: the newest, the one before it, the one that the agent has confirmed, each with
    /// the whole order that it stands on.
    ///
    /// # Errors
    /// The database cannot be written.
    pub fn forget_old_orders(&self, gateway: &str, confirmed: u64) -> Result<()> {
        let newest = self.newest_number(gateway)?;
        let mut keep_from = newest;
        for number in [newest, newest.saturating_sub(1), confirmed] {
            keep_from = keep_from.min(self.order_kept(gateway, number)?.map_or(newest, |kept| kept.base));
        }
        // Of those whose text is still kept there are few.
        let prefix = format!("{gateway} ");
        let query = Query { beginning: Some(("name", &prefix)), ..Query::default() };
        for name in self.names::<OrderText>(&query)? {
            let number = name.strip_prefix(&prefix).and_then(|number| number.parse::<u64>().ok());
            if number.is_some_and(|number| number < keep_from) {
                self.remove::<OrderText>(&name)?;
            }
        }
        Ok(())
    }
}
