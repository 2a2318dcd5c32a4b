//! What the keys met so far come to: columns, nested objects and child tables.

use std::collections::HashMap;

use super::path;
use crate::reader::TableHead;

/// The name of the column of values that are not in an object.
pub const VALUE: &str = "value";

/// The most columns that one table may have before keys are taken for data: no database that is
/// loaded into holds as many.
const MOST_COLUMNS: usize = 2048;

/// The most keys of all objects, and the most tables of lists, likewise.
const MOST_KEYS: usize = 50_000;
const MOST_TABLES: usize = 500;

/// A table that got so many columns from one file is sparse where fewer than one of [`SPARSE`] cells hold a value. This
/// is looked at once so many cells were met.
const WIDE: usize = 512;
const SPARSE: u64 = 200;
const ENOUGH: u64 = 1 << 20;

/// An object's place in the tree.
pub type NodeId = u32;

/// Everything that is known of the objects at one place.
#[derive(Debug)]
pub struct Node {
    /// The table that its values go to.
    pub table: u32,
    /// The name its columns begin with, in that table.
    name: String,
    pub members: Vec<Member>,
    by_key: HashMap<Box<[u8]>, u32>,
    /// The member met last: the next key is most often the next member's.
    last: u32,
    /// How many objects were met: each has a number, by which a key that comes twice is told.
    pub objects: u64,
}

/// One key of an object.
#[derive(Debug)]
pub struct Member {
    key: Box<[u8]>,
    /// Its name as a column.
    name: String,
    /// The column of its plain values.
    pub column: Option<u32>,
    /// What is in it where it is an object.
    pub object: Option<NodeId>,
    /// The child table of its list.
    pub list: Option<u32>,
    /// Files before this one had objects in it: their columns stay, whatever else it holds.
    pub was_object: bool,
    /// It was null, and nothing else yet.
    pub was_null: bool,
    /// The number of the object in which it was met last.
    pub met_in: u64,
}

impl Member {
    /// Its name, with those of the objects it stands in.
    pub fn shown(&self) -> &str {
        &self.name
    }
}

/// A table and the object whose keys are its columns.
#[derive(Debug)]
pub struct Table {
    /// The object of its rows.
    pub node: NodeId,
    /// The column of rows that are no objects.
    pub value: Option<u32>,
    /// Rows so far, through the whole file.
    pub rows: u64,
    /// How many columns files before this one had.
    known: usize,
    /// The cells of its rows so far, and those that hold a value.
    cells: u64,
    filled: u64,
}

impl Table {
    /// Adds a row: its cells, and those that hold a value.
    #[inline]
    pub fn count(&mut self, cells: usize, filled: usize) {
        self.cells += cells as u64;
        self.filled += filled as u64;
    }
}

/// How much of a tree there was at a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Extent {
    nodes: usize,
    tables: usize,
    columns: usize,
}

/// The tree of all keys.
#[derive(Debug)]
pub struct Tree {
    pub nodes: Vec<Node>,
    pub tables: Vec<Table>,
    /// The tables as others see them.
    pub heads: Vec<TableHead>,
    /// Some table has too many columns to be one, or there are too many keys in all.
    pub overgrown: Option<String>,
    keys: usize,
    /// The tables of all columns, in the order in which these were met.
    columns: Vec<u32>,
}

impl Tree {
    /// A tree that knows these tables already, the main one first; its columns keep their places.
    pub fn knowing(heads: &[TableHead]) -> Tree {
        let mut tree = Tree {
            nodes: Vec::new(),
            tables: Vec::new(),
            heads: Vec::new(),
            overgrown: None,
            keys: 0,
            columns: Vec::new(),
        };
        tree.add_table(String::new(), false);
        for head in heads.iter().skip(1) {
            // The table hangs on the longest path known that its own begins with.
            let (table, keys) = tree.home_of(&head.path);
            let node = tree.tables[table].node;
            tree.list_at(node, &keys);
        }
        for head in heads {
            let Some(table) = tree.heads.iter().position(|known| known.path == head.path) else { continue };
            for name in &head.names {
                tree.know_column(table, name);
            }
            for path in &head.objects {
                tree.know_object(table, path);
            }
            // Whoever reads the file again knows them from here.
            tree.heads[table].objects.clone_from(&head.objects);
        }
        for (table, head) in tree.tables.iter_mut().zip(&tree.heads) {
            table.known = head.names.len();
        }
        tree
    }

    fn home_of(&self, path: &str) -> (usize, Vec<String>) {
        let keys = path::keys(path);
        let homes = self.heads.iter().enumerate().map(|(at, head)| (at, path::keys(&head.path)));
        let best = homes
            .filter(|(_, of)| of.len() < keys.len() && keys.starts_with(of))
            .max_by_key(|(_, of)| of.len());
        best.map_or((0, keys.clone()), |(at, of)| (at, keys[of.len()..].to_vec()))
    }

    fn list_at(&mut self, mut node: NodeId, keys: &[String]) {
        let Some((last, before)) = keys.split_last() else { return };
        for key in before {
            let member = self.member(node, key.as_bytes());
            node = self.object_of(node, member);
        }
        let member = self.member(node, last.as_bytes());
        self.list_of(node, member);
    }

    fn know_column(&mut self, table: usize, name: &str) {
        let node = self.tables[table].node;
        let keys = path::keys(name);
        if keys.len() == 1 && keys[0] == VALUE && table > 0 {
            self.value_of(table);
            return;
        }
        let Some((last, before)) = keys.split_last() else { return };
        let mut node = node;
        for key in before {
            let member = self.member(node, key.as_bytes());
            node = self.object_of(node, member);
        }
        let member = self.member(node, last.as_bytes());
        self.column_of(node, member);
    }

    fn know_object(&mut self, table: usize, path: &str) {
        let mut node = self.tables[table].node;
        for key in path::keys(path) {
            let member = self.member(node, key.as_bytes());
            let object = self.object_of(node, member);
            self.nodes[node as usize].members[member].was_object = true;
            node = object;
        }
    }

    fn add_table(&mut self, path: String, is_child: bool) -> u32 {
        let table = self.tables.len() as u32;
        let node = self.add_node(table, String::new());
        self.tables.push(Table { node, value: None, rows: 0, known: 0, cells: 0, filled: 0 });
        if self.heads.len() >= MOST_TABLES {
            self.overgrown = Some(path.clone());
        }
        self.heads.push(TableHead { path, is_child, ..TableHead::default() });
        table
    }

    fn add_node(&mut self, table: u32, name: String) -> NodeId {
        self.nodes.push(Node {
            table,
            name,
            members: Vec::new(),
            by_key: HashMap::new(),
            last: 0,
            objects: 0,
        });
        self.nodes.len() as NodeId - 1
    }

    /// A new column of a table.
    pub fn add_column(&mut self, table: u32, name: String) -> u32 {
        self.columns.push(table);
        let head = &mut self.heads[table as usize];
        head.names.push(name);
        if head.names.len() > MOST_COLUMNS {
            self.overgrown = Some(head.path.clone());
        }
        head.names.len() as u32 - 1
    }

    /// The member of that key, made if it is new.
    #[inline]
    pub fn member(&mut self, node: NodeId, key: &[u8]) -> usize {
        let Node { members, by_key, last, name, .. } = &mut self.nodes[node as usize];
        let next = if *last as usize + 1 < members.len() { *last as usize + 1 } else { 0 };
        if let Some(member) = members.get(next)
            && *member.key == *key
        {
            *last = next as u32;
            return next;
        }
        if let Some(at) = by_key.get(key) {
            *last = *at;
            return *at as usize;
        }
        let shown = path::join(name, &String::from_utf8_lossy(key));
        by_key.insert(key.into(), members.len() as u32);
        members.push(Member {
            key: key.into(),
            name: shown,
            column: None,
            object: None,
            list: None,
            was_object: false,
            was_null: false,
            met_in: 0,
        });
        *last = members.len() as u32 - 1;
        let made = members.len() - 1;
        self.keys += 1;
        if self.keys > MOST_KEYS {
            self.overgrown = Some(self.nodes[node as usize].name.clone());
        }
        made
    }

    /// The column of a member's plain values.
    #[inline]
    pub fn column_of(&mut self, node: NodeId, member: usize) -> u32 {
        let found = &self.nodes[node as usize].members[member];
        if let Some(column) = found.column {
            return column;
        }
        let (table, name) = (self.nodes[node as usize].table, found.name.clone());
        let column = self.add_column(table, name);
        self.nodes[node as usize].members[member].column = Some(column);
        column
    }

    /// The object that a member is.
    pub fn object_of(&mut self, node: NodeId, member: usize) -> NodeId {
        let found = &self.nodes[node as usize].members[member];
        if let Some(object) = found.object {
            return object;
        }
        let (table, name) = (self.nodes[node as usize].table, found.name.clone());
        let object = self.add_node(table, name);
        self.nodes[node as usize].members[member].object = Some(object);
        object
    }

    /// The child table of a member's list.
    pub fn list_of(&mut self, node: NodeId, member: usize) -> u32 {
        let found = &self.nodes[node as usize].members[member];
        if let Some(list) = found.list {
            return list;
        }
        let home = &self.heads[self.nodes[node as usize].table as usize].path;
        let path = path::keys(&found.name).iter().fold(home.clone(), |path, key| path::join(&path, key));
        let list = self.add_table(path, true);
        self.nodes[node as usize].members[member].list = Some(list);
        list
    }

    /// The column of a table's rows that are no objects.
    pub fn value_of(&mut self, table: usize) -> u32 {
        if let Some(column) = self.tables[table].value {
            return column;
        }
        // A key of that name has its column already, and shares it.
        let node = self.tables[table].node;
        let member = self.member(node, VALUE.as_bytes());
        let column = self.column_of(node, member);
        self.tables[table].value = Some(column);
        column
    }

    /// Notes a table whose keys are data: it has many columns, and its rows hold values in few of them.
    pub fn note_sparse(&mut self) {
        let is_sparse = |(table, head): &(&Table, &TableHead)| {
            head.names.len() - table.known.min(head.names.len()) >= WIDE
                && table.cells >= ENOUGH
                && table.filled.saturating_mul(SPARSE) < table.cells
        };
        if let Some((_, head)) = self.tables.iter().zip(&self.heads).find(is_sparse) {
            self.overgrown = Some(head.path.clone());
        }
    }

    /// How much is known now.
    pub fn extent(&self) -> Extent {
        Extent { nodes: self.nodes.len(), tables: self.tables.len(), columns: self.columns.len() }
    }

    /// Forgets the tables and columns that came since then, with a record that turned out to be none.
    pub fn forget_since(&mut self, known: Extent) {
        if self.extent() == known {
            return;
        }
        for table in self.columns.drain(known.columns..) {
            if let Some(head) = self.heads.get_mut(table as usize) {
                head.names.pop();
            }
        }
        self.nodes.truncate(known.nodes);
        self.tables.truncate(known.tables);
        self.heads.truncate(known.tables);
        let (nodes, tables, heads) = (self.nodes.len(), self.tables.len(), &self.heads);
        let width = |table: u32| heads.get(table as usize).map_or(0, |head| head.names.len());
        for node in &mut self.nodes {
            let width = width(node.table);
            for member in &mut node.members {
                member.column = member.column.filter(|column| (*column as usize) < width);
                member.object = member.object.filter(|object| (*object as usize) < nodes);
                member.list = member.list.filter(|list| (*list as usize) < tables);
            }
        }
        for (table, head) in self.tables.iter_mut().zip(heads) {
            table.value = table.value.filter(|column| (*column as usize) < head.names.len());
        }
    }

    /// Gives keys that were never anything but null a column: they were there all the same.
    pub fn settle_nulls(&mut self) {
        for node in 0..self.nodes.len() {
            for member in 0..self.nodes[node].members.len() {
                let found = &self.nodes[node].members[member];
                if found.was_null && found.column.is_none() && found.object.is_none() && found.list.is_none()
                {
                    self.column_of(node as NodeId, member);
                }
            }
        }
    }

    /// The keys that are objects here and lists there, by the paths of their lists.
    pub fn torn(&self) -> Vec<String> {
        let members = self.nodes.iter().flat_map(|node| &node.members);
        members
            .filter(|member| member.object.is_some() && !member.was_object)
            .filter_map(|member| Some(self.heads[member.list? as usize].path.clone()))
            .collect()
    }
}
