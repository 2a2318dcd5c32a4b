//! Where the items of lists stand.

use std::ops::Range;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef};
use arrow_schema::DataType;

/// Where the items of each list of an array stand.
pub struct ListRanges<'a> {
    array: &'a dyn Array,
    items: &'a ArrayRef,
}

impl<'a> ListRanges<'a> {
    /// Those of an array of lists or maps; `None` for any other.
    pub fn of(array: &'a dyn Array) -> Option<ListRanges<'a>> {
        let items = match array.data_type() {
            DataType::List(_) => array.as_list::<i32>().values(),
            DataType::LargeList(_) => array.as_list::<i64>().values(),
            DataType::FixedSizeList(_, _) => array.as_fixed_size_list().values(),
            DataType::ListView(_) => array.as_list_view::<i32>().values(),
            DataType::LargeListView(_) => array.as_list_view::<i64>().values(),
            DataType::Map(_, _) => array.as_map().keys(),
            _ => return None,
        };
        Some(ListRanges { array, items })
    }

    /// The items of all lists.
    pub fn items(&self) -> &'a dyn Array {
        self.items.as_ref()
    }

    /// Which of the items are those of a row.
    pub fn range(&self, row: usize) -> Range<usize> {
        let (from, to) = match self.array.data_type() {
            DataType::List(_) => ends(self.array.as_list::<i32>().value_offsets(), row),
            DataType::LargeList(_) => ends(self.array.as_list::<i64>().value_offsets(), row),
            DataType::Map(_, _) => ends(self.array.as_map().value_offsets(), row),
            DataType::FixedSizeList(_, _) => {
                let lists = self.array.as_fixed_size_list();
                let length = usize::try_from(lists.value_length()).unwrap_or_default();
                let from = lists.value_offset_at(row);
                (from, from.saturating_add(length))
            }
            DataType::ListView(_) => {
                let lists = self.array.as_list_view::<i32>();
                view(lists.value_offset(row).into(), lists.value_size(row).into())
            }
            _ => {
                let lists = self.array.as_list_view::<i64>();
                view(lists.value_offset(row), lists.value_size(row))
            }
        };
        let to = to.min(self.items.len());
        from.min(to)..to
    }
}

fn ends<T: Copy + TryInto<usize>>(offsets: &[T], row: usize) -> (usize, usize) {
    let at = |at: usize| offsets.get(at).and_then(|offset| (*offset).try_into().ok()).unwrap_or_default();
    (at(row), at(row + 1))
}

fn view(from: i64, size: i64) -> (usize, usize) {
    let from = usize::try_from(from).unwrap_or_default();
    (from, from.saturating_add(usize::try_from(size).unwrap_or_default()))
}
