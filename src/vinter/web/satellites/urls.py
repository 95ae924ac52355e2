"""Addresses of the passes."""

from django.urls import path

from vinter.web.satellites import views

urlpatterns = [
    path("sites/<int:pk>/station/", views.station, name="station"),
    path("sites/<int:pk>/station/import/", views.import_elements, name="station-import"),
]
