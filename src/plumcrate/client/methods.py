"""What clients are asked for, by what it is about. Made by script/types; not edited by hand."""

from __future__ import annotations

from .calls import (
    allowance,
    audit,
    backups,
    descriptions,
    invitations,
    jobs,
    keys,
    libraries,
    members,
    near_duplicates,
    needs,
    pages,
    people,
    pictures,
    recipes,
    reports,
    runs,
    service,
    serving,
    site_pages,
    sizes,
    touches,
    watermarks,
    webhooks,
    weighings,
)
from .method import C, Each, Method, Resource


class Allowance(Resource[C]):
    """What may be treated in a month."""

    get = Method(allowance.get)
    set = Method(allowance.set)


class Audit(Resource[C]):
    """Who did what."""

    page = Method(audit.page)
    each = Each(audit.page)
    export = Method(audit.export)


class Backups(Resource[C]):
    """What the backups hold."""

    get = Method(backups.get)
    orphans = Method(backups.orphans)
    each_of_orphans = Each(backups.orphans)
    rescue = Method(backups.rescue)


class Descriptions(Resource[C]):
    """What pictures say to those who do not see them."""

    page = Method(descriptions.page)
    each = Each(descriptions.page)
    summary = Method(descriptions.summary)
    of_picture = Method(descriptions.of_picture)
    save = Method(descriptions.save)
    change = Method(descriptions.change)
    changes = Method(descriptions.changes)
    undo = Method(descriptions.undo)
    settings = Method(descriptions.settings)
    save_settings = Method(descriptions.save_settings)
    terms = Method(descriptions.terms)
    put_terms = Method(descriptions.put_terms)
    csv = Method(descriptions.csv)
    put_csv = Method(descriptions.put_csv)
    xliff = Method(descriptions.xliff)
    put_xliff = Method(descriptions.put_xliff)


class Invitations(Resource[C]):
    """Links that let somebody in."""

    page = Method(invitations.page)
    each = Each(invitations.page)
    invite = Method(invitations.invite)
    invite_member = Method(invitations.invite_member)
    take_back = Method(invitations.take_back)


class Jobs(Resource[C]):
    """All other long work."""

    survey = Method(jobs.survey)
    check = Method(jobs.check)
    forecast = Method(jobs.forecast)
    prune = Method(jobs.prune)
    page = Method(jobs.page)
    each = Each(jobs.page)
    get = Method(jobs.get)
    stop = Method(jobs.stop)
    read_words = Method(jobs.read_words)
    compare_renditions = Method(jobs.compare_renditions)
    search_near_duplicates = Method(jobs.search_near_duplicates)


class Keys(Resource[C]):
    """Keys for machines: all, or those of one library."""

    page = Method(keys.page)
    each = Each(keys.page)
    make = Method(keys.make)
    make_for_library = Method(keys.make_for_library)
    rotate = Method(keys.rotate)
    revoke = Method(keys.revoke)


class Libraries(Resource[C]):
    """Connected folder trees."""

    all = Method(libraries.all)
    get = Method(libraries.get)
    connect = Method(libraries.connect)
    change = Method(libraries.change)
    disconnect = Method(libraries.disconnect)
    savings = Method(libraries.savings)
    reattach = Method(libraries.reattach)
    mapping = Method(libraries.mapping)
    put_mapping = Method(libraries.put_mapping)
    proposals = Method(libraries.proposals)
    answer_proposal = Method(libraries.answer_proposal)
    site_files = Method(libraries.site_files)


class Members(Resource[C]):
    """Those with a role in a library."""

    page = Method(members.page)
    each = Each(members.page)
    change = Method(members.change)
    remove = Method(members.remove)


class NearDuplicates(Resource[C]):
    """Pictures that show the same."""

    page = Method(near_duplicates.page)
    keep_apart = Method(near_duplicates.keep_apart)
    redirect = Method(near_duplicates.redirect)
    take_redirect_back = Method(near_duplicates.take_redirect_back)


class Needs(Resource[C]):
    """Sizes that places on pages need."""

    note = Method(needs.note)
    all = Method(needs.all)
    forget = Method(needs.forget)


class Pages(Resource[C]):
    """Pages of a site that are rewritten."""

    files = Method(pages.files)
    faults = Method(pages.faults)
    rewrite = Method(pages.rewrite)


class People(Resource[C]):
    """Everybody with an account."""

    page = Method(people.page)
    each = Each(people.page)
    change = Method(people.change)
    remove = Method(people.remove)
    new_password = Method(people.new_password)


class Pictures(Resource[C]):
    """Pictures and their files."""

    facets = Method(pictures.facets)
    try_on = Method(pictures.try_on)
    override_many = Method(pictures.override_many)
    page = Method(pictures.page)
    each = Each(pictures.page)
    get = Method(pictures.get)
    override = Method(pictures.override)
    plan = Method(pictures.plan)
    content = Method(pictures.content)
    upload = Method(pictures.upload)
    try_upload = Method(pictures.try_upload)
    cuts = Method(pictures.cuts)
    set_focus = Method(pictures.set_focus)


class Recipes(Resource[C]):
    """How pictures are treated."""

    get = Method(recipes.get)
    page = Method(recipes.page)
    each = Each(recipes.page)
    save = Method(recipes.save)
    effect = Method(recipes.effect)


class Reports(Resource[C]):
    """Reports for the client."""

    figures = Method(reports.figures)
    file = Method(reports.file)
    settings = Method(reports.settings)
    save_settings = Method(reports.save_settings)
    kept = Method(reports.kept)
    kept_file = Method(reports.kept_file)
    keep = Method(reports.keep)


class Runs(Resource[C]):
    """Treating and restoring many files."""

    start = Method(runs.start)
    page = Method(runs.page)
    each = Each(runs.page)
    get = Method(runs.get)
    items = Method(runs.items)
    each_of_items = Each(runs.items)
    checksums = Method(runs.checksums)
    pause = Method(runs.pause)
    resume = Method(runs.resume)
    stop = Method(runs.stop)
    retry = Method(runs.retry)


class Service(Resource[C]):
    """The service itself."""

    health = Method(service.health)
    whoami = Method(service.whoami)
    machine = Method(service.machine)
    settings = Method(service.settings)
    formats = Method(service.formats)
    folders = Method(service.folders)
    metrics = Method(service.metrics)


class Serving(Resource[C]):
    """How the site serves the copies."""

    rules = Method(serving.rules)
    ask = Method(serving.ask)
    purges = Method(serving.purges)
    traffic = Method(serving.traffic)
    log_position = Method(serving.log_position)
    count_log = Method(serving.count_log)


class SitePages(Resource[C]):
    """Pages that are weighed."""

    all = Method(site_pages.all)
    get = Method(site_pages.get)
    change = Method(site_pages.change)
    forget = Method(site_pages.forget)


class Sizes(Resource[C]):
    """Named sizes of a library."""

    all = Method(sizes.all)
    save = Method(sizes.save)
    remove = Method(sizes.remove)
    effect = Method(sizes.effect)
    ladder = Method(sizes.ladder)
    unused = Method(sizes.unused)
    remove_unused = Method(sizes.remove_unused)
    bring_back = Method(sizes.bring_back)


class Touches(Resource[C]):
    """Touch-ups of pictures."""

    get = Method(touches.get)
    save = Method(touches.save)
    save_several = Method(touches.save_several)
    view = Method(touches.view)


class Watermarks(Resource[C]):
    """Watermarks of a library."""

    all = Method(watermarks.all)
    save = Method(watermarks.save)
    set_picture = Method(watermarks.set_picture)
    remove = Method(watermarks.remove)


class Webhooks(Resource[C]):
    """Whom a library tells what came to pass, and how it hears of it from its site."""

    all = Method(webhooks.all)
    get = Method(webhooks.get)
    add = Method(webhooks.add)
    set = Method(webhooks.set)
    remove = Method(webhooks.remove)
    make_secret = Method(webhooks.make_secret)
    redeliver = Method(webhooks.redeliver)
    send_trial = Method(webhooks.send_trial)
    make_incoming_secret = Method(webhooks.make_incoming_secret)


class Weighings(Resource[C]):
    """Weighings of pages."""

    start = Method(weighings.start)
    page = Method(weighings.page)
    each = Each(weighings.page)
    history = Method(weighings.history)
    get = Method(weighings.get)
    shot = Method(weighings.shot)
    treat = Method(weighings.treat)
