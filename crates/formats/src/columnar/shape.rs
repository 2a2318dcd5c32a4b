//! Which tables and columns a schema makes: scalars are columns, what is in a struct is columns of a
//! longer name, lists of structs and maps are child tables, and the rest stays JSON.

use std::sync::Arc;

use arrow_schema::{DataType, Field, Fields};
use hypodoke_core::types::{Digits, Domain, Type};

use crate::json::{JsonOptions, Nested, PlainLists, path};
use crate::reader::TableHead;

/// The most digits of a decimal that is stored exactly.
const MOST_DIGITS: i16 = 38;

/// How deep structs and lists may stand in one another before the rest stays JSON.
const MOST_DEPTH: usize = 48;

/// The name of the column of a list's plain values.
const VALUE: &str = "value";

/// Where the values of a column of the file go.
#[derive(Debug)]
pub enum Node {
    /// Into a column of the table in hand.
    Value(usize),
    /// Into a column of the table in hand, as JSON.
    Json(usize),
    /// The values of a struct's fields, in their order.
    Struct(Vec<Node>),
    /// Each item of a list is a row of another table.
    Rows {
        /// The table.
        table: usize,
        /// Where the item goes.
        item: Box<Node>,
    },
}

/// The tables of a file, and where its columns go.
#[derive(Debug)]
pub struct Shape {
    /// The tables, the main one first.
    pub heads: Vec<TableHead>,
    /// Of each table, under which keys its columns stand in a record that is shown as JSON.
    pub keys: Vec<Arc<[Vec<String>]>>,
    /// Where the columns of the file go, in their order.
    pub nodes: Vec<Node>,
    /// What there is to say of columns that cannot be what they are declared to be.
    pub remarks: Vec<String>,
}

/// Makes the shape of a file of these columns.
pub fn shape(fields: &Fields, options: &JsonOptions) -> Shape {
    let mut builder = Builder {
        options,
        heads: vec![TableHead::default()],
        keys: vec![Vec::new()],
        remarks: Vec::new(),
        depth: 0,
    };
    let nodes = fields.iter().map(|field| builder.node(0, &[], field)).collect();
    let Builder { heads, keys, remarks, .. } = builder;
    Shape { heads, keys: keys.into_iter().map(Arc::from).collect(), nodes, remarks }
}

struct Builder<'o> {
    options: &'o JsonOptions,
    heads: Vec<TableHead>,
    keys: Vec<Vec<Vec<String>>>,
    remarks: Vec<String>,
    depth: usize,
}

impl Builder<'_> {
    fn node(&mut self, table: usize, within: &[String], field: &Field) -> Node {
        let mut keys = within.to_vec();
        keys.push(field.name().clone());
        self.typed_node(table, keys, field)
    }

    /// Where a column under these keys of a table goes.
    fn typed_node(&mut self, table: usize, keys: Vec<String>, field: &Field) -> Node {
        if let Some(domain) = domain_of(field) {
            let name = || name_of(&keys);
            if is_wide_decimal(field.data_type()) {
                self.remarks.push(format!("`{}` has decimals of more than 38 digits: it is text", name()));
            }
            if let Some(zone) = unknown_zone(field.data_type()) {
                let words = "which is not known: its moments are those of UTC, as all are that have a zone";
                self.remarks.push(format!("`{}` is of the zone `{zone}`, {words}", name()));
            }
            return Node::Value(self.column(table, keys, domain));
        }
        if self.options.nested == Nested::Json || self.depth >= MOST_DEPTH {
            return Node::Json(self.column(table, keys, Domain::Json));
        }
        self.depth += 1;
        let node = match field.data_type() {
            DataType::Struct(fields) if !fields.is_empty() => {
                Node::Struct(fields.iter().map(|inner| self.node(table, &keys, inner)).collect())
            }
            DataType::Map(entries, _) => match entries.data_type() {
                DataType::Struct(fields) if fields.len() == 2 => self.map_rows(table, &keys, fields),
                _ => Node::Json(self.column(table, keys, Domain::Json)),
            },
            data_type => match item_of(data_type) {
                Some(item) if self.makes_rows(item) => self.list_rows(table, &keys, item),
                _ => Node::Json(self.column(table, keys, Domain::Json)),
            },
        };
        self.depth -= 1;
        node
    }

    /// Whether the items of a list are rows of a table of their own.
    fn makes_rows(&self, item: &Field) -> bool {
        match item.data_type() {
            DataType::Struct(fields) => !fields.is_empty(),
            DataType::Map(_, _) => false,
            other if item_of(other).is_some() => false,
            _ => self.options.plain_lists == PlainLists::Tables,
        }
    }

    fn list_rows(&mut self, table: usize, keys: &[String], item: &Field) -> Node {
        let child = self.child_of(table, keys);
        let item = match item.data_type() {
            DataType::Struct(fields) => {
                Node::Struct(fields.iter().map(|inner| self.node(child, &[], inner)).collect())
            }
            _ => self.typed_node(child, vec![VALUE.to_owned()], item),
        };
        Node::Rows { table: child, item: Box::new(item) }
    }

    /// The entries of a map are rows of a key and a value.
    fn map_rows(&mut self, table: usize, keys: &[String], fields: &Fields) -> Node {
        let child = self.child_of(table, keys);
        let names = ["key", VALUE];
        let inner = fields.iter().zip(names);
        let item = inner.map(|(field, name)| self.typed_node(child, vec![name.to_owned()], field)).collect();
        Node::Rows { table: child, item: Box::new(Node::Struct(item)) }
    }

    fn child_of(&mut self, table: usize, keys: &[String]) -> usize {
        let home = self.heads.get(table).map(|head| head.path.clone()).unwrap_or_default();
        let path = keys.iter().fold(home, |path, key| path::join(&path, key));
        self.heads.push(TableHead { path, is_child: true, ..TableHead::default() });
        self.keys.push(Vec::new());
        self.heads.len() - 1
    }

    fn column(&mut self, table: usize, keys: Vec<String>, domain: Domain) -> usize {
        let (Some(head), Some(known)) = (self.heads.get_mut(table), self.keys.get_mut(table)) else {
            return 0;
        };
        head.names.push(name_of(&keys));
        head.declared.push(domain);
        known.push(keys);
        head.names.len() - 1
    }
}

/// The name of the column under these keys: of one by itself it is the key as it is.
fn name_of(keys: &[String]) -> String {
    match keys {
        [only] => only.clone(),
        keys => keys.iter().fold(String::new(), |name, key| path::join(&name, key)),
    }
}

/// What the items of a list are; `None` for what is no list.
pub fn item_of(data_type: &DataType) -> Option<&Field> {
    match data_type {
        DataType::List(item)
        | DataType::LargeList(item)
        | DataType::FixedSizeList(item, _)
        | DataType::ListView(item)
        | DataType::LargeListView(item) => Some(item),
        _ => None,
    }
}

/// What a scalar is declared to be; `None` for what is nested.
fn domain_of(field: &Field) -> Option<Domain> {
    let extension = field.metadata().get("ARROW:extension:name").map(String::as_str);
    match (extension, field.data_type()) {
        (Some("arrow.uuid"), DataType::FixedSizeBinary(16)) => Some(Domain::Uuid),
        (Some("arrow.json"), DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View) => Some(Domain::Json),
        (_, data_type) => domain(data_type),
    }
}

fn domain(data_type: &DataType) -> Option<Domain> {
    Some(match data_type {
        DataType::Null => Domain::Unknown,
        DataType::Boolean => Domain::Boolean,
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => number(Type::Integer),
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 => number(Type::Integer),
        DataType::UInt64 => number(Type::Decimal { precision: 20, scale: 0 }),
        DataType::Float16 | DataType::Float32 | DataType::Float64 => number(Type::Float),
        DataType::Decimal32(precision, scale)
        | DataType::Decimal64(precision, scale)
        | DataType::Decimal128(precision, scale)
        | DataType::Decimal256(precision, scale) => decimal(*precision, *scale),
        DataType::Date32 | DataType::Date64 => Domain::Date,
        DataType::Time32(_) | DataType::Time64(_) => Domain::Time,
        DataType::Timestamp(_, None) => Domain::Timestamp,
        DataType::Timestamp(_, Some(_)) => Domain::TimestampTz,
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Domain::Text,
        DataType::Binary | DataType::LargeBinary | DataType::BinaryView => Domain::Text,
        DataType::FixedSizeBinary(_) | DataType::Duration(_) | DataType::Interval(_) => Domain::Text,
        DataType::Dictionary(_, value) => return domain(value),
        DataType::RunEndEncoded(_, values) => return domain_of(values),
        DataType::Struct(_) | DataType::Map(_, _) | DataType::Union(_, _) => return None,
        _ => return None,
    })
}

/// A number of this type, which is no day whatever its digits say.
fn number(ty: Type) -> Domain {
    match Domain::of(ty) {
        Domain::Number(digits) => {
            Domain::Number(Digits { not_days: true, not_moments: true, several: true, ..digits })
        }
        other => other,
    }
}

fn decimal(precision: u8, scale: i8) -> Domain {
    let (precision, scale) = digits(precision, scale);
    match (u16::try_from(precision), u16::try_from(scale)) {
        (Ok(precision), Ok(scale)) if precision <= MOST_DIGITS.unsigned_abs() => {
            number(Type::Decimal { precision: precision.max(1), scale })
        }
        _ => Domain::Text,
    }
}

/// The digits of a decimal and those behind its mark, where the scale may be less than none or more than
/// all of them.
fn digits(precision: u8, scale: i8) -> (i16, i16) {
    let (precision, scale) = (i16::from(precision), i16::from(scale));
    if scale < 0 { (precision - scale, 0) } else { (precision.max(scale), scale) }
}

/// The zone of moments that is in no list of zones. The moments are counted in UTC, whatever the zone.
fn unknown_zone(data_type: &DataType) -> Option<&str> {
    match data_type {
        DataType::Dictionary(_, value) => unknown_zone(value),
        DataType::Timestamp(_, Some(zone)) => {
            let is_offset = format!("1970-01-01T00:00:00{zone}").parse::<jiff::Timestamp>().is_ok();
            let is_known = is_offset || jiff::tz::TimeZone::get(zone).is_ok();
            (!is_known).then_some(zone.as_ref())
        }
        _ => None,
    }
}

fn is_wide_decimal(data_type: &DataType) -> bool {
    match data_type {
        DataType::Dictionary(_, value) => is_wide_decimal(value),
        DataType::Decimal32(precision, scale)
        | DataType::Decimal64(precision, scale)
        | DataType::Decimal128(precision, scale)
        | DataType::Decimal256(precision, scale) => digits(*precision, *scale).0 > MOST_DIGITS,
        _ => false,
    }
}
