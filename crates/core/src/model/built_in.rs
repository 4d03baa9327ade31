//! The fields that each kind of entry brings along.

use super::{Constraints, Declaration, Default, Distinct, Form, Required, UrlShape, Vary, Verdict};
use crate::name::Name;
use crate::source::Place;
use crate::types::Type;
use crate::value::{Held, Value};

/// The values of an endpoint's `auth`.
pub mod auth {
    /// User and password, as in RFC 7617.
    pub const BASIC: &str = "basic";
    /// A token, as in RFC 6750.
    pub const BEARER: &str = "bearer";
    /// A token in a header of the service's own.
    pub const API_KEY: &str = "api-key";
    /// Nothing.
    pub const NONE: &str = "none";
}

/// The values of `auth` that ask for a user and a password.
static PASSWORD: &[&str] = &[auth::BASIC];
/// Those that ask for a token.
static TOKEN: &[&str] = &[auth::BEARER, auth::API_KEY];

/// The most fields that a kind brings along.
const MOST: usize = 7;

/// Builds the fields of one entry, all placed at its declaration.
struct Fields {
    place: Place,
    list: Vec<Declaration>,
}

impl Fields {
    fn new(place: Place) -> Self {
        Self { place, list: Vec::with_capacity(MOST) }
    }

    /// Adds a field and gives it to be adjusted. The name is one of this file's.
    fn add(&mut self, name: &str, this_type: Type, required: bool) -> &mut Declaration {
        let mut field = Declaration::plain(Name::parse(name).ok(), this_type, self.place);
        if !required {
            field.required = Required::No;
        }
        self.list.push(field);
        let last = self.list.len() - 1;
        &mut self.list[last]
    }

    fn secret(&mut self, name: &str, this_type: Type, required: bool) -> &mut Declaration {
        let field = self.add(name, this_type, required);
        field.secret = true;
        field.distinct = Distinct::Classes;
        field
    }
}

fn default(value: Value) -> Default {
    Default { value: Held::new(value, false), verdict: Verdict::Fits, place: None }
}

/// The port that a connection of this protocol has unless it says another.
pub fn usual_port(protocol: &str) -> Option<u16> {
    match protocol {
        "postgresql" => Some(5432),
        "mysql" => Some(3306),
        "redis" => Some(6379),
        "amqp" => Some(5672),
        "sftp" => Some(22),
        "ldap" => Some(389),
        "smtp" => Some(25),
        _ => None,
    }
}

/// The fields of a connection of this protocol, and how its `url` is put together.
pub fn protocol_fields(protocol: &str, place: Place) -> (Vec<Declaration>, Option<UrlShape>) {
    let (place_field, place_type, place_required, login_required) = match protocol {
        "postgresql" | "mysql" => (Some("database"), Type::Text, true, true),
        "redis" => (Some("database"), Type::Integer, false, false),
        "amqp" => (Some("path"), Type::Text, false, true),
        "sftp" => (Some("path"), Type::Path, false, true),
        "smtp" | "kafka" | "tcp" => (None, Type::Text, false, false),
        _ => (Some("path"), Type::Text, false, false),
    };
    let mut fields = Fields::new(place);
    if protocol == "kafka" {
        fields.add("brokers", Type::List, true).vary = Vary::Must;
    } else {
        fields.add("host", Type::Host, true).vary = Vary::Must;
        fields.add("port", Type::Port, true).default =
            usual_port(protocol).map(|port| default(Value::Integer(port.into())));
    }
    if let Some(name) = place_field {
        fields.add(name, place_type, place_required);
    }
    fields.add("user", Type::Text, login_required);
    fields.secret("password", Type::Text, login_required);
    fields.add("options", Type::Map, false);
    if protocol == "kafka" {
        return (fields.list, None);
    }
    fields.add("url", Type::Url, false).derived = true;
    let url = UrlShape { place: place_field, place_keeps_slashes: protocol == "sftp" };
    (fields.list, Some(url))
}

/// The fields of an endpoint.
pub fn endpoint_fields(place: Place) -> Vec<Declaration> {
    let mut fields = Fields::new(place);
    fields.add("base", Type::Url, true).vary = Vary::Must;
    fields.add("proxy", Type::Url, false);
    fields.add("timeout", Type::Duration, true).default = Some(default(Value::text("30s")));
    let field = fields.add("auth", Type::Text, true);
    field.default = Some(default(Value::text(auth::NONE)));
    let one_of = [auth::NONE, auth::BASIC, auth::BEARER, auth::API_KEY].map(Value::text).to_vec();
    field.constraints = Some(Box::new(Constraints { one_of, ..Constraints::default() }));
    fields.add("user", Type::Text, true).required = Required::WhenAuth(&PASSWORD);
    fields.secret("password", Type::Text, true).required = Required::WhenAuth(&PASSWORD);
    fields.secret("token", Type::Text, true).required = Required::WhenAuth(&TOKEN);
    fields.list
}

/// The fields of a credential of this form.
pub fn credential_fields(form: Form, place: Place) -> Vec<Declaration> {
    let mut fields = Fields::new(place);
    match form {
        Form::Password => {
            fields.add("user", Type::Text, true);
            fields.secret("password", Type::Text, true);
        }
        Form::Token => {
            fields.secret("token", Type::Text, true);
        }
        Form::KeyPair => {
            fields.secret("private_key", Type::Pem, true);
            fields.add("public_key", Type::Text, true);
        }
        Form::Certificate => {
            fields.add("certificate", Type::Pem, true);
            fields.secret("private_key", Type::Pem, true);
        }
    }
    fields.add("expires", Type::Date, false);
    fields.list
}
