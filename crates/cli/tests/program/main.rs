//! The built program on estates of its own, in temporary folders. One binary, so that it is linked once and tests of all files
//! run side by side.
//!
//! | file | what it tries |
//! |---|---|
//! | `common` | what they share: a folder with an estate, a machine that boots, a terminal |
//! | `estate` | the estate: names, lists, words that are wrong, history |
//! | `accounts` | password accounts, second factors, shared secrets, many at once |
//! | `certificates` | authorities and certificates, before independent judges |
//! | `among` | what agents bring each other |
//! | `carried` | what is recorded reaches its gateways, and nothing else does |
//! | `along` | what goes along with an estate: saving, loading, keys, published lists |
//! | `fire` | commands killed at any moment, two at once, a full disk, altered rows |
//! | `agent` | an agent by itself, given orders by hand |
//! | `amended` | amendments: what an agent takes, refuses and keeps of them |
//! | `disk` | the same on a disk that is full |
//! | `hostile` | a device of our own making that replays, floods and lies at an agent |
//! | `whole` | the whole path in namespaces, and the demo in both worlds |
//! | `network` | the tunnel on a network: ports, pools, leaks, resolvers |
//! | `moving` | a gateway that moves, and devices that follow |
//! | `notices` | what is new reaches devices, and orders that hold for a time |
//! | `processes` | the whole path without privileges |
//! | `policies` | the list that decides who is admitted |
//! | `jobs` | commands on many, in batches |
//! | `kept` | what earlier versions wrote |
//! | `lab` | the lab itself, and everyday changes |
//! | `everyday` | every day's work in one command |
//! | `glance` | the whole estate at one glance |
//! | `renamed` | gateways and listeners under other names |
//! | `guide` | the guide and questions at a terminal |
//! | `by_ssh`, `by_ssh_changes` | machines over SSH: coming there, changing what runs there |
//! | `second_factor` | second factors that policies ask for |
//! | `sign_ins` | what policies ask about how somebody signed in: registry, realm, the first time, a second factor |
//! | `told` | the record, told over TLS |
//! | `phones` | what phones and computers have built in comes in |
//! | `packages` | signed packages, upgrades without a person |
//! | `manual` | what is made from the commands themselves |

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

mod accounts;
mod agent;
mod along;
mod amended;
mod among;
mod answers;
mod by_ssh;
mod by_ssh_changes;
mod carried;
mod certificates;
mod dependencies;
mod disk;
mod estate;
mod everyday;
mod fire;
mod forms;
mod glance;
mod guide;
mod hostile;
mod jobs;
mod kept;
mod lab;
mod manual;
mod moving;
mod network;
mod notices;
mod packages;
mod phones;
mod policies;
mod processes;
mod renamed;
mod second_factor;
mod sign_ins;
mod told;
mod undone;
mod whole;
