"""Addresses of archives."""

from django.urls import path

from vinter.web.archive import views

urlpatterns = [
    path("account/archive/", views.archive, name="archive"),
    path("account/archive/<int:pk>.zip", views.download, name="archive-file"),
    path("account/archive/part/", views.part, name="archive-part"),
    path("export/<str:kind>.zip", views.export_chosen, name="export-chosen"),
    path("account/archive/import/", views.bring_in, name="archive-import"),
]
