//! Places: what can be done with a host, a router, a name service, a cloud. A place offers what it can, each by a trait of its
//! own; one file or folder a kind of place.
//!
//! | file | offers |
//! |---|---|
//! | `manage` | managing a host: the trait, and what is asked over it |
//! | `offer` | forwarding a port, setting a name, renting a machine: the traits |
//! | `person` | whoever sits before the command |
//! | `ssh` | a host behind an SSH server |
//! | `lab` | a host of the lab |

mod lab;
mod manage;
mod offer;
mod person;
mod ssh;

use std::sync::Arc;

use yestrel_core::estate::{Host, Via};
use yestrel_core::{Problem, Result};

pub use manage::Manage;
pub use offer::{Forward, Mapping, Name, Offer, Rent};
pub use person::{Person, Whose};
pub use ssh::fingerprint;

/// What a place offers. Each part is there or not; who needs one asks for it and says what is missing.
#[derive(Clone, Default)]
pub struct Place {
    /// What it is called in what is said to a person.
    pub name: String,
    pub manage: Option<Arc<dyn Manage>>,
    pub forward: Option<Arc<dyn Forward>>,
    pub naming: Option<Arc<dyn Name>>,
    pub rent: Option<Arc<dyn Rent>>,
}

impl Place {
    /// Managing it as a host.
    ///
    /// # Errors
    /// It does not offer that.
    pub fn to_manage(&self) -> Result<Arc<dyn Manage>> {
        self.manage.clone().ok_or_else(|| self.lacks("be managed"))
    }

    /// Forwarding ports on it.
    ///
    /// # Errors
    /// It does not offer that.
    pub fn to_forward(&self) -> Result<Arc<dyn Forward>> {
        self.forward.clone().ok_or_else(|| self.lacks("forward a port"))
    }

    fn lacks(&self, what: &str) -> Problem {
        Problem::refused(format!("{} cannot {what}", self.name)).why("this kind of place does not offer it")
    }
}

/// The place that a host is at. Nothing is connected yet.
///
/// # Errors
/// How it is got into cannot be understood.
pub fn open(host: &Host, person: &Arc<dyn Person>) -> Result<Place> {
    let manage: Arc<dyn Manage> = match &host.via {
        Via::Lab(folder) => Arc::new(lab::LabHost::new(&host.name, folder)),
        Via::Ssh(target) => Arc::new(ssh::SshHost::new(&host.name, target, &host.access, person.clone())?),
    };
    Ok(Place { name: host.name.clone(), manage: Some(manage), ..Place::default() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Mutex;
    use yestrel_core::firewall::Service;

    /// A router that can map ports and nothing else: all that such a place needs.
    #[derive(Default)]
    struct Router(Mutex<Vec<Mapping>>);

    impl Forward for Router {
        fn mappings(&self) -> Result<Vec<Mapping>> {
            Ok(self.0.lock().unwrap().clone())
        }

        fn map(&self, mapping: &Mapping) -> Result<()> {
            let mut all = self.0.lock().unwrap();
            if all.iter().any(|other| other.outside == mapping.outside && other.to != mapping.to) {
                return Err(Problem::refused(format!("{} is mapped already", mapping.outside)));
            }
            all.push(mapping.clone());
            Ok(())
        }

        fn unmap(&self, outside: Service) -> Result<bool> {
            let mut all = self.0.lock().unwrap();
            let before = all.len();
            all.retain(|mapping| mapping.outside != outside);
            Ok(all.len() < before)
        }
    }

    #[test]
    fn a_place_offers_what_it_can_and_says_what_it_cannot() {
        let forward = Some(Arc::new(Router::default()) as Arc<dyn Forward>);
        let router = Place { name: "yard-router".into(), forward, ..Place::default() };
        let problem = router.to_manage().err().unwrap();
        assert_eq!(problem.error, "yard-router cannot be managed");
        let forward = router.to_forward().unwrap();
        let mapping =
            |to: &str| Mapping { outside: Service::udp(23817), inside: Service::udp(23817), to: to.parse().unwrap() };
        forward.map(&mapping("192.168.61.7")).unwrap();
        assert!(forward.map(&mapping("192.168.61.9")).is_err(), "somebody else's");
        assert_eq!(forward.mappings().unwrap(), [mapping("192.168.61.7")]);
        assert!(forward.unmap(Service::udp(23817)).unwrap() && !forward.unmap(Service::udp(23817)).unwrap());
    }
}
