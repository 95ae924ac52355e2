"""Addresses of the shots."""

from django.urls import path

from vinter.web.shots import views

urlpatterns = [
    path("shots/", views.shots, name="shots"),
    path("sites/<int:pk>/shots/new/", views.new, name="shot-new"),
    path("shots/<int:pk>/", views.shot, name="shot"),
    path("shots/<int:pk>/lesson/", views.lesson, name="lesson"),
]
