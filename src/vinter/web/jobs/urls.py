"""Addresses of the jobs."""

from django.urls import path

from vinter.web.jobs import views

urlpatterns = [
    path("jobs/<int:pk>/", views.status, name="job"),
    path("jobs/<int:pk>/cancel/", views.cancel, name="job-cancel"),
]
