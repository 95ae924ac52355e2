"""Addresses of the skyline and of where to stand."""

from django.urls import path

from vinter.web.skyline import stand, views

urlpatterns = [
    path("skyline/", views.first_skyline, name="first-skyline"),
    path("sites/<int:pk>/skyline/", views.skyline, name="skyline"),
    path("sites/<int:pk>/skyline/scene.json", views.scene, name="skyline-scene"),
    path("sites/<int:pk>/skyline/sky.jpg", views.sky, name="skyline-sky"),
    path("sites/<int:pk>/stand/", stand.stand, name="stand"),
    path("sites/<int:pk>/stand.gpx", stand.stand_gpx, name="stand-gpx"),
]
