//! What a device asks for by an id: an object of ours, or what a fixed id of that device stands
//! for (REG-6).

use mostra_protocol::model::property::Property;
use mostra_protocol::model::search::{Criteria, Operator};
use mostra_protocol::model::sort::SortKey;

use super::fit;
use crate::access::Pass;
use crate::catalogue::{Catalogue, Node, Object, Page, Summary, Window};
use crate::ids::UpdateId;
use crate::stop::Stop;
use crate::traits::Traits;

/// An object that a device asks for, and in which order it wants the children.
pub(super) struct RequestedObject<'a> {
    catalogue: &'a Catalogue,
    pass: &'a Pass,
    /// The id as asked for.
    pub id: &'a str,
    /// The id of ours behind it, and the class that it adds.
    real: &'a str,
    class: Option<&'a str>,
    is_alias: bool,
    sort: &'a [SortKey],
    traits: &'a Traits,
    stop: &'a Stop,
}

impl<'a> RequestedObject<'a> {
    /// What an id stands for, in short; `None` if that is nothing for this device. A menu of
    /// this device is always there, even where the view behind it has nothing in it.
    pub(super) fn of(
        catalogue: &'a Catalogue,
        pass: &'a Pass,
        id: &'a str,
        sort: &'a [SortKey],
        traits: &'a Traits,
        stop: &'a Stop,
    ) -> Option<(RequestedObject<'a>, Summary)> {
        let own = RequestedObject {
            catalogue,
            pass,
            id,
            real: id,
            class: None,
            is_alias: false,
            sort,
            traits,
            stop,
        };
        if let Some(summary) = catalogue.summary(pass, id) {
            return Some((own, summary));
        }
        let alias = traits.aliases.get(id)?;
        let class = alias.class.as_deref();
        let asked = RequestedObject { real: &alias.container, class, is_alias: true, ..own };
        let summary = catalogue.summary(pass, &alias.container);
        let empty = || Summary { title: String::new(), is_container: true };
        Some((asked, summary.unwrap_or_else(empty)))
    }

    /// The object itself; a view with nothing in it is none.
    pub(super) fn object(&self) -> Option<Object> {
        let mut object = self.catalogue.object(self.pass, self.real)?;
        if self.is_alias {
            self.id.clone_into(&mut object.id);
            if let Node::Container { children, .. } = &mut object.node {
                *children = self.child_count();
            }
        }
        Some(object)
    }

    /// How many children it has.
    pub(super) fn child_count(&self) -> u32 {
        // Of an alias they are found by a search.
        let count = match self.is_alias {
            true => self.children(0, 1).map(|page| page.total),
            false => self.catalogue.child_count(self.pass, self.real),
        };
        count.unwrap_or(0)
    }

    /// Its update id.
    pub(super) fn update_id(&self) -> UpdateId {
        let update_id = self.catalogue.object_update_id(self.pass, self.real);
        update_id.unwrap_or_else(|| self.catalogue.update_id())
    }

    /// Its children from one on, so many; `None` for an item.
    pub(super) fn children(&self, start: u32, count: u32) -> Option<Page> {
        let (catalogue, pass, real) = (self.catalogue, self.pass, self.real);
        let page = match self.class {
            None => {
                let window = Window { start, count, sort: self.sort };
                catalogue.children_until(self.stop, pass, real, window)
            }
            Some(class) => {
                let here = Criteria::Test(Property::ParentId, Operator::Equal, real.to_owned());
                let criteria = Criteria::And(vec![here, of_class(class)]);
                let window = Window { start, count, sort: self.sort };
                catalogue.search_until(self.stop, pass, real, &criteria, window)
            }
        };
        let empty = || Page { objects: vec![], total: 0, update_id: catalogue.update_id() };
        let page = page.or_else(|| self.is_alias.then(empty))?;
        let page = fit::numbered(catalogue, pass, page, self.traits);
        Some(if self.is_alias { renamed(page, real, self.id) } else { page })
    }
}

pub(super) fn of_class(class: &str) -> Criteria {
    Criteria::Test(Property::Class, Operator::DerivedFrom, class.to_owned())
}

/// Direct children carry the asked id as parentID (REG-6).
pub(super) fn renamed(page: Page, container: &str, asked: &str) -> Page {
    let mut page = page;
    for object in page.objects.iter_mut().filter(|o| o.parent == container) {
        asked.clone_into(&mut object.parent);
    }
    page
}
