"""Addresses of the field pages."""

from django.urls import path

from vinter.web.field import views

urlpatterns = [
    path("field/", views.cards, name="cards"),
    path("field/worker.js", views.service_worker, name="field-worker"),
    path("field/manifest.json", views.manifest, name="field-manifest"),
    path("field/open/<str:ticket>/", views.card_open, name="card-open"),
    path("field/<int:pk>/", views.card, name="card"),
    path("field/<int:pk>/card.pdf", views.card_as_pdf, name="card-pdf"),
    path("field/<int:pk>/qr.svg", views.qr, name="card-qr"),
    path("field/<int:pk>/revoke/", views.revoke, name="card-revoke"),
    path("field/<int:pk>/point/", views.point, name="point"),
    path("field/<int:pk>/skyline/", views.trace_skyline, name="field-skyline"),
    path("field/<int:pk>/timer/", views.timer, name="timer"),
    path("field/<int:pk>/notes/", views.notes, name="field-notes"),
    path("field/<int:pk>/check/", views.check, name="check"),
    path("field/<int:pk>/pack/", views.pack, name="pack"),
    path("field/<int:pk>/pack/change/", views.pack_change, name="pack-change"),
    path("field/<int:pk>/card.html", views.card_file, name="card-file"),
]
