//! What the agent owns of its host stays as the order says: whatever else changes it, it is put right at once, and told.

use std::sync::Arc;
use std::time::{Duration, Instant};

use yestrel_core::exchange::NewsEvent;
use yestrel_core::order::Content;
use yestrel_core::{Problem, Result};
use yestrel_host::folder::Before;
use yestrel_net::plane::{self, Plane};
use yestrel_net::watch::{Seen, Watch};

use crate::run::Agent;

/// Repairs are news at once and then at most one line in this time.
const QUIET: Duration = Duration::from_secs(60);

impl Agent {
    /// Begins to watch what the agent owns.
    pub(crate) fn begin_to_watch(self: &Arc<Self>) {
        let weak = Arc::downgrade(self);
        let watch = Watch::start(plane::OWN, move |seen| weak.upgrade().is_some_and(|agent| agent.mend(seen)));
        match watch {
            Ok(watch) => *self.watch.lock() = Some(watch),
            // Inside the process nothing of the system is owned, and nothing there need be allowed.
            Err(error) => tracing::debug!("changes of the firewall and the network are not seen: {error}"),
        }
    }

    /// Puts right what something else has changed; whether it is to be looked at again soon.
    fn mend(&self, seen: Seen) -> bool {
        let _one = self.change.lock();
        self.mend_what_was(seen)
    }

    /// Looks at everything that the agent owns, for an order that is in force already.
    ///
    /// # Errors
    /// Something cannot be put right.
    pub(crate) fn put_all_right(&self) -> Result<()> {
        self.mend_what_was(Seen { firewall: true, network: true });
        match self.mended.lock().amiss.clone() {
            Some(why) => Err(Problem::failed("the order is in force, and its host is not as it says").why(why)),
            None => Ok(()),
        }
    }

    fn mend_what_was(&self, seen: Seen) -> bool {
        let Some(in_force) = self.shared.in_force() else { return false };
        let content = in_force.roll.settings();
        let righted = self.put_right(content, seen);
        let mut mended = self.mended.lock();
        match righted {
            Ok(what) if what.is_empty() => mended.amiss = None,
            Ok(what) => {
                tracing::warn!("something else on this host has changed {}; it is right again", what.join(", "));
                mended.times += 1;
                let new: Vec<_> = what.into_iter().filter(|one| !mended.what.contains(one)).collect();
                mended.what.extend(new);
                mended.amiss = None;
            }
            Err(problem) => {
                if mended.amiss.is_none() {
                    tracing::error!("what the gateway needs of this host is amiss: {}", problem.line());
                }
                mended.amiss = Some(problem.line());
                return true;
            }
        }
        if mended.times > 0 && mended.told.is_none_or(|told| told.elapsed() >= QUIET) {
            let what = std::mem::take(&mut mended.what).join(", ");
            let times = std::mem::take(&mut mended.times);
            mended.told = Some(Instant::now());
            drop(mended);
            self.shared.note(NewsEvent::Righted { what, times });
        }
        false
    }

    fn put_right(&self, content: &Content, seen: Seen) -> Result<Vec<&'static str>> {
        let Some(plane) = self.shared.plane() else { return Ok(Vec::new()) };
        if !plane.is_there() {
            let plane = self.new_plane(content)?;
            self.switch_plane(&plane, content)?;
            *self.shared.plane.write() = Some(plane);
            return Ok(vec!["the TUN device"]);
        }
        let all = plane.amiss(content, seen)?;
        if all.is_empty() {
            return Ok(all);
        }
        self.switch_plane(&plane, content)?;
        // Whoever changes one thing of it may change it again at once, or what nothing here can put right.
        let left = plane.amiss(content, seen)?;
        if left.is_empty() {
            return Ok(all);
        }
        Err(Problem::failed(format!("{} cannot be put right", left.join(", "))).why("something else keeps changing it"))
    }

    /// How inner traffic will meet the site.
    pub(crate) fn new_plane(&self, content: &Content) -> Result<Arc<Plane>> {
        let ground = plane::Ground { bind: self.options.bind, real: self.options.real.clone() };
        Ok(Arc::new(Plane::make(self.plane_kind()?, content, &ground, &self.shared.seats)?))
    }

    /// Brings addresses, firewall and forwarding to what an order says, with what was there before kept.
    pub(crate) fn switch_plane(&self, plane: &Plane, content: &Content) -> Result<()> {
        plane.switch(content, &|before| {
            let before = Before { forwarding: before.four, forwarding6: before.six };
            self.shared.keep.lock().set_before(&before)
        })
    }
}
