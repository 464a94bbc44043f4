//! Services and their actions. What a service can do stands in one table, from which its document,
//! the dispatch of a server and the calls of a control point come: a new action is one row.

pub mod av_transport;
pub mod connection_manager;
pub mod content_directory;
mod document;
mod own;
pub mod registrar;
pub mod rendering_control;
pub mod wan_ip_connection;

use std::fmt;
use std::str::FromStr;

pub use document::{ReadAction, ReadDocument, ReadVariable, read, write};
pub use own::OwnService;

use crate::model::identifiers::split_version;

/// An argument and the state variable it relates to.
pub type Argument = (&'static str, &'static str);

/// An action: name, in arguments, out arguments.
#[derive(Debug, Clone, Copy)]
pub struct ActionRow {
    /// The action's name.
    pub name: &'static str,
    /// Arguments sent by the caller, in order.
    pub inputs: &'static [Argument],
    /// Arguments answered, in order.
    pub outputs: &'static [Argument],
}

/// A state variable.
#[derive(Debug, Clone, Copy)]
pub struct Variable {
    /// Its name.
    pub name: &'static str,
    /// Its UPnP data type.
    pub kind: &'static str,
    /// Whether changes are sent to subscribers (DESC-16).
    pub evented: bool,
    /// The values allowed; empty for any.
    pub allowed: &'static [&'static str],
    /// The smallest and the largest number allowed, where there are such.
    pub range: Option<(u32, u32)>,
}

/// What a service is and can do.
#[derive(Debug, Clone, Copy)]
pub struct Definition {
    /// The service type without its version.
    pub name: &'static str,
    /// The version.
    pub version: u32,
    /// The service id of the device document (UDA §2.3).
    pub id: &'static str,
    /// Its actions.
    pub actions: &'static [ActionRow],
    /// Its state variables.
    pub variables: &'static [Variable],
}

impl Definition {
    /// The service type as announced.
    pub fn urn(&self) -> String {
        format!("{}:{}", self.name, self.version)
    }
}

/// An action of a service with a table of its own.
pub trait ServiceAction: Copy + Sized + 'static {
    /// The service.
    fn service() -> &'static Definition;
    /// The row of the table.
    fn row(self) -> &'static ActionRow;
    /// The action of a name.
    fn from_name(name: &str) -> Option<Self>;
}

const fn var(name: &'static str, kind: &'static str) -> Variable {
    Variable { name, kind, evented: false, allowed: &[], range: None }
}

const fn evented(name: &'static str, kind: &'static str) -> Variable {
    Variable { evented: true, ..var(name, kind) }
}

const fn listed(name: &'static str, allowed: &'static [&'static str]) -> Variable {
    Variable { allowed, ..var(name, "string") }
}

const fn ranged(name: &'static str, kind: &'static str, least: u32, most: u32) -> Variable {
    Variable { range: Some((least, most)), ..var(name, kind) }
}

/// Makes the table of a service's actions and an enum of them.
macro_rules! actions {
    ($service:ident; $($name:ident(
        $($in:ident: $in_variable:literal),*
    ) -> ($($out:ident: $out_variable:literal),*);)*) => {
        /// The service's actions.
        // Vendors' actions begin with `X_`.
        #[allow(non_camel_case_types)]
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Action {
            $(
                #[doc = concat!("`", stringify!($name), "`.")]
                $name
            ),*
        }

        const ACTIONS: &[$crate::model::service::ActionRow] = &[$(
            $crate::model::service::ActionRow {
                name: stringify!($name),
                inputs: &[$((stringify!($in), $in_variable)),*],
                outputs: &[$((stringify!($out), $out_variable)),*],
            }
        ),*];

        impl $crate::model::service::ServiceAction for Action {
            fn service() -> &'static Definition {
                &$service
            }

            fn row(self) -> &'static $crate::model::service::ActionRow {
                &ACTIONS[self as usize]
            }

            fn from_name(name: &str) -> Option<Action> {
                const ALL: &[Action] = &[$(Action::$name),*];
                ALL.iter().copied().find(|action| ACTIONS[*action as usize].name == name)
            }
        }
    };
}
use actions;

/// A service type as somebody writes it: any name in any version.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ServiceType {
    /// The type without its version.
    pub name: String,
    /// The version; a missing one counts as 1.
    pub version: u32,
}

impl ServiceType {
    /// Whether this is the service of a table, in any version (SOAP-3).
    pub fn is(&self, service: &Definition) -> bool {
        self.name == service.name
    }
}

impl FromStr for ServiceType {
    type Err = std::convert::Infallible;

    fn from_str(urn: &str) -> Result<ServiceType, Self::Err> {
        let (name, version) = split_version(urn.trim());
        Ok(ServiceType { name: name.to_owned(), version })
    }
}

impl fmt::Display for ServiceType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.name, self.version)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_is_that_of_its_service_in_any_version() {
        let read = |urn: &str| urn.parse::<ServiceType>().unwrap();
        let volume = &rendering_control::DEFINITION;
        assert!(read(&volume.urn()).is(volume) && read(&format!("{}:3", volume.name)).is(volume));
        assert!(!read("urn:schemas-upnp-org:service:Other:1").is(volume));
        assert_eq!(read("urn:x:service:Y:2").to_string(), "urn:x:service:Y:2");
        assert_eq!(
            read("urn:x:service:Y"),
            ServiceType { name: "urn:x:service:Y".into(), version: 1 }
        );
    }

    fn whole<A: ServiceAction>() {
        for row in A::service().actions {
            let action = A::from_name(row.name).expect("every row is an action");
            assert_eq!(action.row().name, row.name);
            let known = |variable: &str| A::service().variables.iter().any(|v| v.name == variable);
            for (argument, variable) in row.inputs.iter().chain(row.outputs) {
                assert!(known(variable), "{}: {argument} relates to {variable}", row.name);
            }
        }
        assert!(A::from_name("").is_none() && A::from_name("browse").is_none());
    }

    #[test]
    fn every_row_is_an_action_whose_arguments_have_variables() {
        whole::<content_directory::Action>();
        whole::<connection_manager::Action>();
        whole::<registrar::Action>();
        whole::<av_transport::Action>();
        whole::<rendering_control::Action>();
        whole::<wan_ip_connection::Action>();
    }
}
