//! What the guide's questions are about.

/// What a question is about, for whoever answers with a question mark.
pub(super) fn explained(key: &str) -> &'static [&'static str] {
    match key {
        "estate" => &[
            "Everything of one team is kept together under this name: places, machines, people, keys. It is one file on this machine.",
            "The name stands in handovers and certificates. Letters a-z, digits and - are taken.",
        ],
        "where" => &[
            "The gateway is the program to which devices connect. It runs on a machine with Linux that is always on.",
            "Without one at hand, the lab makes machines to practise on; nothing of it leaves this machine.",
        ],
        "via" => &[
            "The same words by which you sign in to it now: the user, the address or name, the port if it is not 22.",
            "Example: ssh://root@203.0.113.10. The user must be root, or may use sudo.",
        ],
        "key" => &[
            "A file with the private key by which that machine knows you. With none, the key agent, ~/.ssh and a password are tried.",
        ],
        "site" => &[
            "One place, such as an office. Its networks are what devices reach through the gateway that stands there.",
        ],
        "network" => &[
            "In the form 192.168.40.0/24: the addresses that machines have there. On a machine of that network, ip address shows one of them.",
            "none means that only the machine itself is reached.",
        ],
        "kind" => &[
            "It says what is asked and checked: a rented machine has a provider's firewall in front, a router at home forwards ports.",
        ],
        "dialled" => &[
            "Devices are told this name or address and use it for as long as they have this handover. A name can lead elsewhere later.",
            "Behind a router it is the router's address outside, and the router must forward the port to the gateway.",
        ],
        "updates" => &[
            "Newer programs that you sent to the machine wait until these hours. never means that you do it yourself by rollout.",
        ],
        "port" => &[
            "A number from 1 to 65535, for UDP. Some networks let only few pass; 443 passes most. free takes one that nothing uses.",
        ],
        "policy" => &[
            "A credential alone lets nobody in: the list of policies says when and for whom it is good, and it can be made finer at any time.",
            "yestrel policy rehearse plays a sign-in through it and says which policy decides, and why.",
        ],
        "hours" => &[
            "Days and times by the clock of the gateway's site: mon-fri 07:00-19:00, tue,thu 05:30-11:15, daily 22:00-06:00 over midnight.",
        ],
        "reach" => {
            &["What a device sends through the tunnel. It can be changed later; devices learn it by themselves."]
        }
        "ranges" => &["Networks in the form 10.44.0.0/22, or single addresses, with commas between."],
        "user" => {
            &["A person, by a short name: a-z, digits and -. More about them can be said later: yestrel user change."]
        }
        "device" => &[
            "What they carry, by a short name: laptop, phone. Each has a key of its own, which can be taken back alone.",
        ],
        "until" => &[
            "After this time it lets nobody in, unless it is renewed. 90d, 1y, a date such as 2027-05-31, or never.",
            "A device that is lost and never missed then does not stay open for ever.",
        ],
        "file" => &[
            "The file holds the private key. It is written here, carried to the device once, and given out only once.",
        ],
        "from" => &[
            "The device on which the tunnel begins. With a proxy only programs that are told so use it, and no root is needed.",
        ],
        "target" => &[
            "An address and TCP port behind the gateway that takes connections, such as 10.44.0.20:80. none leaves that out.",
        ],
        "next" => &[
            "Each of these is asked from its beginning, with all that is there kept. done ends the guide; it can be run again.",
        ],
        _ => &["There is nothing more to say about this."],
    }
}
