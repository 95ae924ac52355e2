"""Addresses of the home page."""

from django.urls import path

from vinter.web.home import begin, views

urlpatterns = [
    path("health/", views.health, name="health"),
    path("guide/", views.guide, name="guide"),
    path("begin/", begin.begin, name="begin"),
    path("", views.home, name="home"),
]
