//! Making records flat: every value into its column, every list of objects into its child table.

use std::ops::Range;

use hypodoke_core::record::{Field, Link, Records};
use jiter::{Jiter, JiterError, Peek};

use super::tree::{NodeId, Tree};
use super::{JsonOptions, Nested, PlainLists};

/// How deep objects and lists may stand in one another before the rest stays JSON.
const MOST_DEPTH: usize = 48;

/// A record may have a cell for so many of the bytes allowed: its lists may have rows of a few bytes, and columns that
/// most of them say nothing of.
const BYTES_PER_CELL: usize = 8;

/// JSON without the white space between its tokens.
fn compact(json: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(json.len());
    let (mut in_string, mut escaped) = (false, false);
    for byte in json {
        if in_string {
            in_string = escaped || *byte != b'"';
            escaped = !escaped && *byte == b'\\';
        } else if byte.is_ascii_whitespace() {
            continue;
        } else {
            in_string = *byte == b'"';
        }
        out.push(*byte);
    }
    out
}

/// Why a record is broken: at which of its bytes, and what is wrong there.
#[derive(Debug)]
pub struct Broken {
    /// Counted from the record's first byte.
    pub at: usize,
    /// In words.
    pub what: String,
}

impl From<JiterError> for Broken {
    fn from(error: JiterError) -> Broken {
        Broken { at: error.index, what: error.error_type.to_string() }
    }
}

/// A row being filled.
#[derive(Debug, Default)]
struct Open {
    table: u32,
    slots: Vec<Field>,
    /// Its number: a line of the main table, or a row of its child table.
    number: u64,
}

/// Makes records flat.
#[derive(Debug)]
pub struct Flattener {
    /// What is known of the keys.
    pub tree: Tree,
    options: JsonOptions,
    /// Rows being filled, one inside another; those beyond `depth` are kept for their buffers.
    open: Vec<Open>,
    depth: usize,
    /// Decoded texts of the main table, which go behind the batch's bytes.
    pub decoded: Vec<u8>,
    tape: Vec<u8>,
    owner: u32,
    line: u64,
    nesting: usize,
    /// Keys that came twice in one object.
    pub doubled: u64,
    /// The first of them.
    pub first_doubled: Option<(String, u64)>,
    /// Subtrees that stayed JSON because they are too deep.
    pub too_deep: u64,
    /// Records stand under keys, which have a column.
    is_keyed: bool,
    /// The cells of the rows of the record in hand, and the most that one record may have.
    cells: usize,
    most_cells: usize,
}

/// The record's text, where it stands among the batch's bytes, and the batch's child tables.
struct Ground<'a, 'b> {
    text: &'a [u8],
    base: usize,
    all: usize,
    batch: &'b mut Vec<Records>,
}

/// Columns of the main table that are not of the records' own keys.
#[derive(Clone, Copy)]
struct NamesTaken {
    raw: bool,
    key: bool,
}

impl NamesTaken {
    /// The name that a key of a record goes by.
    #[inline]
    fn free(self, key: &[u8]) -> &[u8] {
        match key {
            b"raw" if self.raw => b"raw (of the record)",
            b"key" if self.key => b"key (of the record)",
            key => key,
        }
    }
}

impl Flattener {
    /// One that knows these keys already. `longest` is the longest record allowed, in bytes.
    pub fn new(tree: Tree, options: JsonOptions, longest: usize) -> Flattener {
        Flattener {
            tree,
            options,
            open: Vec::new(),
            depth: 0,
            decoded: Vec::new(),
            tape: Vec::new(),
            owner: 0,
            line: 0,
            nesting: 0,
            doubled: 0,
            first_doubled: None,
            too_deep: 0,
            is_keyed: false,
            cells: 0,
            most_cells: longest / BYTES_PER_CELL,
        }
    }

    /// Makes one record flat. `bytes` are the batch's, `place` is where the record stands in
    /// them, `key` what it stood under. A broken record leaves nothing behind.
    pub fn record(
        &mut self,
        bytes: &[u8],
        place: Range<usize>,
        key: Option<Range<usize>>,
        line: u64,
        batch: &mut Vec<Records>,
    ) -> Result<(), Broken> {
        self.owner = batch[0].len() as u32;
        self.line = line;
        let before: Vec<usize> = batch.iter().map(Records::len).collect();
        let rows: Vec<u64> = self.tree.tables.iter().map(|table| table.rows).collect();
        let known = self.tree.extent();
        let text = &bytes[place.clone()];
        let mut jiter = Jiter::with_tape(text, std::mem::take(&mut self.tape)).with_allow_inf_nan();
        (self.depth, self.nesting, self.cells) = (0, 0, 0);
        self.begin(0, line);
        if self.options.raw {
            self.put_raw(place.clone());
        }
        self.is_keyed = key.is_some();
        if let Some(key) = key {
            self.put_key(&bytes[key.start + 1..key.end - 1], key.start + 1, bytes.len());
        }
        let mut ground = Ground { text, base: place.start, all: bytes.len(), batch };
        let done = self.top(&mut jiter, &mut ground).and_then(|()| Ok(jiter.finish()?));
        self.tape = jiter.into_tape();
        match done {
            Ok(()) => {
                self.push_row(0, 0, &mut batch[0]);
                batch[0].end_record(place, line);
                Ok(())
            }
            Err(broken) => {
                for (at, records) in batch.iter_mut().enumerate().skip(1) {
                    records.drop_open_fields();
                    records.take_back(before.get(at).copied().unwrap_or(0));
                }
                self.tree.forget_since(known);
                batch.truncate(self.tree.tables.len());
                for (at, table) in self.tree.tables.iter_mut().enumerate() {
                    table.rows = rows.get(at).copied().unwrap_or(0);
                }
                Err(broken)
            }
        }
    }

    fn begin(&mut self, table: u32, number: u64) {
        if self.open.len() == self.depth {
            self.open.push(Open::default());
        }
        let row = &mut self.open[self.depth];
        row.table = table;
        row.number = number;
        row.slots.clear();
        row.slots.resize(self.tree.heads[table as usize].names.len(), Field::ABSENT);
        self.depth += 1;
    }

    /// Adds the fields of a row that was filled to the records of its table.
    fn push_row(&mut self, open: usize, table: usize, records: &mut Records) {
        let slots = &self.open[open].slots;
        let mut filled = 0;
        for slot in slots {
            filled += usize::from(*slot != Field::ABSENT);
            records.push_field(*slot);
        }
        self.cells += slots.len();
        self.tree.tables[table].count(slots.len(), filled);
    }

    fn put(&mut self, column: u32, field: Field) {
        let slots = &mut self.open[self.depth - 1].slots;
        let column = column as usize;
        if column >= slots.len() {
            slots.resize(column + 1, Field::ABSENT);
        }
        slots[column] = field;
    }

    fn put_raw(&mut self, place: Range<usize>) {
        let member = self.tree.member(self.tree.tables[0].node, b"raw");
        let column = self.tree.column_of(self.tree.tables[0].node, member);
        self.put(column, Field::new(place, false));
    }

    fn put_key(&mut self, key: &[u8], start: usize, all: usize) {
        let member = self.tree.member(self.tree.tables[0].node, b"key");
        let column = self.tree.column_of(self.tree.tables[0].node, member);
        let field = if key.contains(&b'\\') {
            let quoted = [b"\"", key, b"\""].concat();
            self.decode(super::walk::key_of(&quoted).as_bytes(), all)
        } else {
            Field::text(start..start + key.len())
        };
        self.put(column, field);
    }

    fn decode(&mut self, text: &[u8], all: usize) -> Field {
        let start = all + self.decoded.len();
        self.decoded.extend_from_slice(text);
        Field::text(start..start + text.len())
    }

    /// The record itself: an object, a list taken for a row, or a plain value.
    fn top(&mut self, jiter: &mut Jiter<'_>, ground: &mut Ground<'_, '_>) -> Result<(), Broken> {
        let node = self.tree.tables[0].node;
        match jiter.peek()? {
            Peek::Object => self.object(jiter, node, ground),
            Peek::Array => self.positional(jiter, node, ground),
            peek => {
                let column = self.tree.value_of(0);
                self.plain(jiter, peek, column, ground)
            }
        }
    }

    /// A list that stands for a row: its values go by their places.
    fn positional(
        &mut self,
        jiter: &mut Jiter<'_>,
        node: NodeId,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let mut next = jiter.known_array()?;
        let mut place = 0;
        self.tree.nodes[node as usize].objects += 1;
        while let Some(peek) = next {
            place += 1;
            let member = self.tree.member(node, format!("column_{place}").as_bytes());
            self.member_value(jiter, peek, node, member, ground)?;
            next = jiter.array_step()?;
        }
        Ok(())
    }

    fn object(
        &mut self,
        jiter: &mut Jiter<'_>,
        node: NodeId,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let found = &mut self.tree.nodes[node as usize];
        found.objects += 1;
        let number = found.objects;
        let taken = self.names_taken(node);
        let mut member = match jiter.known_object()? {
            Some(key) => self.tree.member(node, taken.free(key.as_bytes())),
            None => return Ok(()),
        };
        loop {
            let peek = jiter.peek()?;
            if std::mem::replace(&mut self.tree.nodes[node as usize].members[member].met_in, number) == number
            {
                self.forget(node, member, ground);
            }
            self.member_value(jiter, peek, node, member, ground)?;
            member = match jiter.next_key()? {
                Some(key) => self.tree.member(node, taken.free(key.as_bytes())),
                None => return Ok(()),
            };
        }
    }

    /// The names of columns that the keys of an object cannot have.
    fn names_taken(&self, node: NodeId) -> NamesTaken {
        let is_record = self.tree.tables.first().is_some_and(|table| table.node == node);
        NamesTaken { raw: is_record && self.options.raw, key: is_record && self.is_keyed }
    }

    #[inline]
    fn member_value(
        &mut self,
        jiter: &mut Jiter<'_>,
        peek: Peek,
        node: NodeId,
        member: usize,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        match peek {
            Peek::Null => {
                jiter.known_null()?;
                let found = &mut self.tree.nodes[node as usize].members[member];
                found.was_null = true;
                if let Some(column) = found.column {
                    self.put(column, Field::new(0..0, false));
                }
                Ok(())
            }
            Peek::Object | Peek::Array if self.options.nested == Nested::Json => {
                self.subtree(jiter, peek, node, member, ground)
            }
            Peek::Object | Peek::Array if self.nesting >= MOST_DEPTH => {
                self.too_deep += 1;
                self.subtree(jiter, peek, node, member, ground)
            }
            Peek::Object => {
                let found = &self.tree.nodes[node as usize].members[member];
                if let Some(list) = found.list.filter(|_| !found.was_object) {
                    // An object where others have a list is a list of one.
                    return self.child(jiter, peek, list, 1, ground);
                }
                let object = self.tree.object_of(node, member);
                self.nesting += 1;
                let done = self.object(jiter, object, ground);
                self.nesting -= 1;
                done
            }
            Peek::Array => self.list(jiter, peek, node, member, ground),
            _ => {
                let column = self.tree.column_of(node, member);
                self.plain(jiter, peek, column, ground)
            }
        }
    }

    /// A list: its objects become rows of a child table; plain values as the user wants it.
    fn list(
        &mut self,
        jiter: &mut Jiter<'_>,
        peek: Peek,
        node: NodeId,
        member: usize,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let inner = jiter.current_index() + 1;
        let first =
            ground.text.get(inner + super::walk::blanks(ground.text.get(inner..).unwrap_or_default()));
        let as_rows = match first {
            Some(b'{') => true,
            Some(b']') => return Ok(jiter.known_skip(peek)?),
            Some(b'[') => false,
            _ => self.options.plain_lists == PlainLists::Tables,
        };
        if !as_rows {
            return self.subtree(jiter, peek, node, member, ground);
        }
        let list = self.tree.list_of(node, member);
        let mut next = jiter.known_array()?;
        let mut position = 0;
        while let Some(peek) = next {
            position += 1;
            self.child(jiter, peek, list, position, ground)?;
            next = jiter.array_step()?;
        }
        Ok(())
    }

    /// One row of a child table.
    fn child(
        &mut self,
        jiter: &mut Jiter<'_>,
        peek: Peek,
        list: u32,
        position: u64,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let parent = self.open[self.depth - 1].number;
        let table = &mut self.tree.tables[list as usize];
        table.rows += 1;
        let (row, node) = (table.rows, table.node);
        while ground.batch.len() <= list as usize {
            ground.batch.push(Records::default());
        }
        self.begin(list, row);
        self.nesting += 1;
        match peek {
            Peek::Object => self.object(jiter, node, ground)?,
            Peek::Null => jiter.known_null()?,
            Peek::Array => {
                let start = jiter.current_index();
                jiter.known_skip(peek)?;
                let column = self.tree.value_of(list as usize);
                self.store(column, start..jiter.current_index(), false, ground);
            }
            _ => {
                let column = self.tree.value_of(list as usize);
                self.plain(jiter, peek, column, ground)?;
            }
        }
        self.nesting -= 1;
        self.depth -= 1;
        let records = &mut ground.batch[list as usize];
        self.push_row(self.depth, list as usize, records);
        records.end_child(0..0, self.line, Link { owner: self.owner, row, parent, position });
        if self.cells > self.most_cells {
            self.tree.note_sparse();
            let what = format!("more than {} cells in the lists of one record", self.most_cells);
            return Err(Broken { at: jiter.current_index(), what });
        }
        Ok(())
    }

    /// A subtree that stays JSON, as it is written.
    fn subtree(
        &mut self,
        jiter: &mut Jiter<'_>,
        peek: Peek,
        node: NodeId,
        member: usize,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let start = jiter.current_index();
        jiter.known_skip(peek)?;
        let range = start..jiter.current_index();
        if let Err(error) = simdutf8::compat::from_utf8(&ground.text[range.clone()]) {
            return Err(Broken {
                at: start + error.valid_up_to(),
                what: "bytes that are not UTF-8".to_owned(),
            });
        }
        let column = self.tree.column_of(node, member);
        if memchr::memchr(b'\n', &ground.text[range.clone()]).is_some() {
            // The indentation of a document that was made to be read says nothing.
            let compact = compact(&ground.text[range]);
            self.store_apart(column, &compact, false, ground);
        } else {
            self.store(column, range, false, ground);
        }
        Ok(())
    }

    #[inline]
    fn plain(
        &mut self,
        jiter: &mut Jiter<'_>,
        peek: Peek,
        column: u32,
        ground: &mut Ground<'_, '_>,
    ) -> Result<(), Broken> {
        let start = jiter.current_index();
        match peek {
            Peek::String => {
                let text = jiter.known_str()?;
                // A text without escapes stands in the record as it is.
                if std::ptr::eq(text.as_ptr(), ground.text[start + 1..].as_ptr()) {
                    let end = start + 1 + text.len();
                    self.store(column, start + 1..end, true, ground);
                } else {
                    self.store_decoded(column, text, ground);
                }
                return Ok(());
            }
            Peek::True | Peek::False => {
                jiter.known_bool(peek)?;
            }
            Peek::Null => {
                jiter.known_null()?;
                self.put(column, Field::new(0..0, false));
                return Ok(());
            }
            _ => {
                jiter.known_number_bytes(peek)?;
            }
        }
        let range = start..jiter.current_index();
        self.store(column, range, false, ground);
        Ok(())
    }

    /// Puts what stands at these bytes of the record into a column of the row in hand. The main
    /// table's fields point into the record; child tables have buffers of their own.
    #[inline]
    fn store(&mut self, column: u32, range: Range<usize>, is_text: bool, ground: &mut Ground<'_, '_>) {
        let table = self.open[self.depth - 1].table as usize;
        let place = if table == 0 {
            ground.base + range.start..ground.base + range.end
        } else {
            let bytes = &mut ground.batch[table].bytes;
            let start = bytes.len();
            bytes.extend_from_slice(&ground.text[range]);
            start..bytes.len()
        };
        self.put(column, if is_text { Field::text(place) } else { Field::new(place, false) });
    }

    fn store_decoded(&mut self, column: u32, text: &str, ground: &mut Ground<'_, '_>) {
        self.store_apart(column, text.as_bytes(), true, ground);
    }

    /// Puts bytes into a column that do not stand in the record as they are.
    fn store_apart(&mut self, column: u32, bytes: &[u8], is_text: bool, ground: &mut Ground<'_, '_>) {
        let table = self.open[self.depth - 1].table as usize;
        let place = if table == 0 {
            let start = ground.all + self.decoded.len();
            self.decoded.extend_from_slice(bytes);
            start..start + bytes.len()
        } else {
            let kept = &mut ground.batch[table].bytes;
            let start = kept.len();
            kept.extend_from_slice(bytes);
            start..kept.len()
        };
        self.put(column, if is_text { Field::text(place) } else { Field::new(place, false) });
    }

    /// A key came twice in one object: the last one wins, and what the first one gave is taken back.
    #[cold]
    fn forget(&mut self, node: NodeId, member: usize, ground: &mut Ground<'_, '_>) {
        self.doubled += 1;
        if self.first_doubled.is_none() {
            let key = self.tree.nodes[node as usize].members[member].shown().to_owned();
            self.first_doubled = Some((key, self.line));
        }
        self.clear(node, member, ground);
    }

    fn clear(&mut self, node: NodeId, member: usize, ground: &mut Ground<'_, '_>) {
        let found = &self.tree.nodes[node as usize].members[member];
        let (column, object, list) = (found.column, found.object, found.list);
        if let Some(column) = column {
            self.put(column, Field::ABSENT);
        }
        if let Some(object) = object {
            for inner in 0..self.tree.nodes[object as usize].members.len() {
                self.clear(object, inner, ground);
            }
        }
        if let Some(list) = list {
            let parent = self.open[self.depth - 1].number;
            self.take_out(list, &|link: &Link| link.parent == parent, ground);
        }
    }

    /// Takes the newest rows out of a child table, as long as they are wanted out, and what hangs
    /// on them.
    fn take_out(&mut self, list: u32, wanted: &dyn Fn(&Link) -> bool, ground: &mut Ground<'_, '_>) {
        let Some(records) = ground.batch.get_mut(list as usize) else { return };
        let owner = self.owner;
        let links = records.links();
        let keep =
            links.len() - links.iter().rev().take_while(|link| link.owner == owner && wanted(link)).count();
        let Some(first) = links.get(keep).map(|link| link.row) else { return };
        records.take_back(keep);
        self.tree.tables[list as usize].rows = first - 1;
        let inner: Vec<u32> = {
            let nodes = &self.tree.nodes;
            let of_table = nodes.iter().filter(|node| node.table == list);
            of_table.flat_map(|node| node.members.iter().filter_map(|member| member.list)).collect()
        };
        for table in inner {
            self.take_out(table, &|link: &Link| link.parent >= first, ground);
        }
    }
}
