"""Addresses of the shots."""

from django.urls import path

from vinter.web.shots import expected, views

urlpatterns = [
    path("shots/", views.shots, name="shots"),
    path("sites/<int:pk>/shots/new/", views.new, name="shot-new"),
    path("shots/<int:pk>/", views.shot, name="shot"),
    path("shots/<int:pk>/change/", views.change, name="shot-change"),
    path("shots/<int:pk>/again/", views.plan_again, name="shot-again"),
    path("shots/<int:pk>/expected/", expected.expected_panel, name="expected"),
    path("shots/<int:pk>/expected.jpg", expected.expected_picture, name="expected-picture"),
    path("shots/<int:pk>/lesson/", views.lesson, name="lesson"),
]
