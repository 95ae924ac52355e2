"""Addresses of phones and lenses."""

from django.urls import path

from vinter.web.gear import views

urlpatterns = [
    path("gear/", views.phones, name="gear"),
    path("gear/add/", views.add, name="phone-add"),
    path("gear/<int:pk>/", views.phone, name="phone"),
    path("gear/<int:pk>.json", views.export_phone, name="phone-export"),
    path("gear/<int:pk>/clamp/", views.holding, name="phone-clamp"),
    path("gear/<int:pk>/delete/", views.delete, name="phone-delete"),
    path("gear/<int:pk>/lens/", views.lens, name="lens-new"),
    path("gear/<int:pk>/lens/<str:name>/", views.lens, name="lens"),
    path("gear/<int:pk>/lens/<str:name>/refuse/", views.refuse, name="lens-refuse"),
    path("gear/<int:pk>/lens/<str:name>/measure/", views.calibrate, name="calibrate"),
    path("gear/<int:pk>/lens/<str:name>/measure/<str:kind>/", views.measured, name="measured"),
]
