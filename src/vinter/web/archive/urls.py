"""Addresses of archives."""

from django.urls import path

from vinter.web.archive import views

urlpatterns = [
    path("account/archive/", views.archive, name="archive"),
    path("account/archive/<int:pk>.zip", views.download, name="archive-file"),
    path("account/archive/import/", views.bring_in, name="archive-import"),
]
