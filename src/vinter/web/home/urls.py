"""Addresses of the home page."""

from django.urls import path

from vinter.web.home import views

urlpatterns = [path("guide/", views.guide, name="guide"), path("", views.home, name="home")]
