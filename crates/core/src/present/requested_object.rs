//! What a device asks for by an id: an object of ours, or what a fixed id of that device stands
//! for (REG-6).

use mostra_protocol::model::property::Property;
use mostra_protocol::model::search::{Criteria, Operator};
use mostra_protocol::model::sort::SortKey;

use super::fit;
use crate::access::Pass;
use crate::catalogue::{Catalogue, Node, Object, Page};
use crate::ids::UpdateId;
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
}

impl<'a> RequestedObject<'a> {
    /// What an id stands for, with the object itself; `None` if that is nothing for this device.
    /// The object of a fixed id may be absent all the same: a view with nothing in it is not
    /// there, but a menu of this device always is.
    pub(super) fn of(
        catalogue: &'a Catalogue,
        pass: &'a Pass,
        id: &'a str,
        sort: &'a [SortKey],
        traits: &'a Traits,
    ) -> Option<(RequestedObject<'a>, Option<Object>)> {
        let own = RequestedObject {
            catalogue,
            pass,
            id,
            real: id,
            class: None,
            is_alias: false,
            sort,
            traits,
        };
        if let Some(object) = catalogue.object(pass, id) {
            return Some((own, Some(object)));
        }
        let alias = traits.aliases.get(id)?;
        let class = alias.class.as_deref();
        let asked = RequestedObject { real: &alias.container, class, is_alias: true, ..own };
        let object = catalogue.object(pass, &alias.container).map(|mut object| {
            if let Node::Container { children, .. } = &mut object.node {
                *children = asked.children(0, 1).map_or(0, |page| page.total);
            }
            Object { id: id.to_owned(), ..object }
        });
        Some((asked, object))
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
            None => catalogue.children(pass, real, start, count, self.sort),
            Some(class) => {
                let here = Criteria::Test(Property::ParentId, Operator::Equal, real.to_owned());
                let criteria = Criteria::And(vec![here, of_class(class)]);
                catalogue.search(pass, real, &criteria, start, count, self.sort)
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
