"""Addresses of the page Space."""

from django.urls import path

from vinter.web.space import views

urlpatterns = [
    path("space/", views.space, name="space"),
    path("space/<int:pk>/again/", views.again, name="space-again"),
]
