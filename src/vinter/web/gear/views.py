"""Phones and what their lenses can do: by hand, from a photo, from a file, measured from frames."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.utils.http import url_has_allowed_host_and_scheme
from django.utils.text import slugify
from django.views.decorators.http import require_POST

from vinter.core.camera.focus import fit_infinity
from vinter.core.camera.phonefile import lens_from_photo, phone_text, read_phone
from vinter.core.camera.phones import SHIPPED, Lens
from vinter.core.camera.phones import Phone as CorePhone
from vinter.core.errors import BadInput
from vinter.core.frames.frame import Frame
from vinter.core.frames.metadata import Metadata
from vinter.core.frames.sensor import DarkReport, measure_darks, measure_flats
from vinter.web.gear.forms import HoldingForm, holding_form, lens_form
from vinter.web.gear.models import Phone, own
from vinter.web.meanwhile import Change, changes_since, opened_with
from vinter.web.owned import owned, person
from vinter.web.uploads import LARGEST_FRAME, from_frames, measured_files, one_file
from vinter.web.workflow import head


def phones(request: HttpRequest) -> HttpResponse:
    """All phones of the user with the figures of their lenses."""
    rows = [(phone, phone.core()) for phone in Phone.objects.filter(owner=person(request))]
    have = {phone.key for phone, _ in rows}
    kinds = [p for p in SHIPPED.values() if p.key not in have]
    return render(request, "gear/phones.html", {"phones": rows, "kinds": kinds, **head("Gear")})


def _says(frames: list[Frame]) -> tuple[Metadata, int, int]:
    """What a frame says of itself, its width and its height."""
    return frames[0].meta, *frames[0].size


def _own(request: HttpRequest, phone: CorePhone) -> HttpResponse:
    made = own(person(request), replace(phone, key=_free_key(request, phone.key)))
    back = request.POST.get("back", "")
    return redirect(back) if url_has_allowed_host_and_scheme(back, None) else redirect("phone", made.pk)


def _free_key(request: HttpRequest, key: str) -> str:
    taken = set(Phone.objects.filter(owner=person(request)).values_list("key", flat=True))
    return next(k for k in (key, *(f"{key}-{i}" for i in range(2, 100))) if k not in taken)


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    """A phone of a typical kind, from a JSON file, or from a photo's metadata."""
    kind = request.POST.get("kind", "")
    if kind in SHIPPED:
        return _own(request, SHIPPED[kind])
    file = one_file(request, "a phone as JSON, or a photo taken with it", LARGEST_FRAME)
    name = file.name or ""
    if name.lower().endswith(".json"):
        return _own(request, read_phone(file.read().decode("utf-8", "replace"), name))
    m, width, height = from_frames([file], 1, _says)
    lens = lens_from_photo("main", m.focal_mm, m.f35, m.aperture, width, height)
    name = (m.model if m.model.startswith(m.make) else f"{m.make} {m.model}").strip() or "My phone"
    key = _free_key(request, slugify(name)[:36] or "phone")
    made = own(person(request), CorePhone(key, name[:60], {"main": lens}))
    return redirect("lens", made.pk, "main")


def phone(request: HttpRequest, pk: int) -> HttpResponse:
    """One phone: its lenses, their infinity and what was measured."""
    return _phone_page(request, owned(Phone, request, pk))


def _phone_page(request: HttpRequest, one: Phone, form: HoldingForm | None = None) -> HttpResponse:
    context = {
        "phone": one,
        "core": one.core(),
        "holding": form or holding_form(None, one.holding),
        "problems": one.clamp_problems,
        **head("Gear"),
    }
    return render(request, "gear/phone.html", context, status=400 if form else 200)


@require_POST
def holding(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep the widths of phone and clamp."""
    one = owned(Phone, request, pk)
    form = holding_form(request.POST, one.holding)
    if not form.is_valid():
        return _phone_page(request, one, form)
    Phone.objects.filter(pk=one.pk).update(holding=form.cleaned_data)
    return redirect("phone", one.pk)


def export_phone(request: HttpRequest, pk: int) -> HttpResponse:
    """A phone as JSON."""
    one = owned(Phone, request, pk)
    return HttpResponse(
        phone_text(one.core()),
        content_type="application/json",
        headers={"Content-Disposition": f'attachment; filename="{one.key}.json"'},
    )


@require_POST
def delete(request: HttpRequest, pk: int) -> HttpResponse:
    """Remove a phone that no shot was planned with."""
    one = owned(Phone, request, pk)
    if one.shot_set.exists():
        raise BadInput(f"{one.name}: shots were planned with it, so it stays; their ledger needs it")
    one.delete()
    return redirect("gear")


def _lens(one: Phone, name: str) -> Lens:
    return one.core().lens(name)


def lens(request: HttpRequest, pk: int, name: str = "") -> HttpResponse:
    """Change a lens, or add one."""
    one = owned(Phone, request, pk)
    fresh = lens_form(None, _lens(one, name) if name else None)
    form = fresh
    changes: list[Change] = []
    if request.method == "POST":
        with transaction.atomic():
            one = Phone.objects.select_for_update().get(pk=pk)
            known = _lens(one, name) if name else None
            fresh = lens_form(None, known)
            data, changes = changes_since(fresh, request.POST)
            form = lens_form(data, known)
            if form.is_valid() and not changes:
                one.store_lens(form.lens, name)
                return redirect("phone", one.pk)
    return render(
        request,
        "gear/lens.html",
        {
            "phone": one,
            "name": name,
            "form": form,
            "changes": changes,
            "opened_with": opened_with(fresh),
            **head("Gear"),
        },
        status=409 if changes else 200,
    )


@require_POST
def refuse(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Put back the infinity that was before a learned one."""
    one = owned(Phone, request, pk)
    one.refuse(_lens(one, name).name)
    return redirect("phone", one.pk)


def calibrate(request: HttpRequest, pk: int, name: str) -> HttpResponse:
    """Measure a lens and its sensor from the user's own frames: infinity, read noise, gain."""
    one = owned(Phone, request, pk)
    found = _lens(one, name)
    return render(request, "gear/calibrate.html", {"phone": one, "lens": found, **head("Gear")})


def _measured(one: Phone, lens: Lens, what: str) -> None:
    parts = [
        part
        for part in lens.measured.split("; ")
        if part and not part.startswith(what.split(" ", maxsplit=1)[0])
    ]
    one.store_lens(replace(lens, measured="; ".join([*parts, f"{what}, {timezone.now():%-d %b %Y}"])))


def _ticks(request: HttpRequest, count: int) -> list[float]:
    try:
        ticks = [float(v) for v in request.POST.get("ticks", "").replace(",", " ").split()]
    except ValueError as error:
        raise BadInput(
            "ticks: numbers with blanks between are wanted, one for each file in the order of their names"
        ) from error
    if len(ticks) != count:
        raise BadInput(
            f"{count} files but {len(ticks)} ticks; one for each file, in the order of the files' names"
        )
    return ticks


def _infinity(request: HttpRequest, one: Phone, lens: Lens) -> dict[str, object]:
    files = sorted(request.FILES.getlist("files"), key=lambda f: f.name or "")
    ticks = _ticks(request, len(files))
    widths = [m.fwhm_px for m, _ in measured_files(files, 4)]
    fit = fit_infinity(ticks, widths)
    _measured(
        one, replace(lens, infinity_ticks=fit.setting), f"infinity at {fit.ticks:.1f} ± {fit.error:.1f} ticks"
    )
    return {"fit": fit, "points": sorted(zip(ticks, widths, strict=True))}


def _darks_of(frames: list[Frame], lens: Lens) -> tuple[DarkReport, int]:
    iso = frames[0].meta.iso or lens.base_iso
    span = frames[0].white - float(frames[0].black.mean())
    return measure_darks(frames, lens.full_scale(iso) / span), iso


def _darks(request: HttpRequest, one: Phone, lens: Lens) -> dict[str, object]:
    report, iso = from_frames(request.FILES.getlist("files"), 2, _darks_of, lens)
    assert report.read_noise_e is not None
    _measured(
        one,
        lens.with_read_noise(iso, report.read_noise_e),
        f"read noise {report.read_noise_e:.1f} e at ISO {iso}",
    )
    return {"darks": report}


def _flats(request: HttpRequest, one: Phone, lens: Lens) -> dict[str, object]:
    files = sorted(request.FILES.getlist("files"), key=lambda f: f.name or "")
    report = from_frames(files, 2, measure_flats)
    iso = report.iso or lens.base_iso
    better = lens.with_white_at(iso, report.white_e)
    _measured(one, better, f"gain {report.gain:.3f} e a DN at ISO {iso}")
    return {"flats": report, "well": better.well}


KINDS: dict[str, Callable[[HttpRequest, Phone, Lens], dict[str, Any]]] = {
    "infinity": _infinity,
    "darks": _darks,
    "flats": _flats,
}


@require_POST
def measured(request: HttpRequest, pk: int, name: str, kind: str) -> HttpResponse:
    """Take the frames of one kind, measure, keep what came out."""
    one = owned(Phone, request, pk)
    if kind not in KINDS:
        raise BadInput(f"{kind!r} is not measured here")
    result = KINDS[kind](request, one, _lens(one, name))
    return render(
        request,
        "gear/calibrate.html",
        {"phone": one, "lens": one.core().lens(name), **result, **head("Gear")},
    )
