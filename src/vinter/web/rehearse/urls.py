"""Addresses of the rehearsals."""

from django.urls import path

from vinter.web.rehearse import views

urlpatterns = [
    path("rehearse/", views.ladder, name="rehearse"),
    path("rehearse/begin/<str:key>/", views.begin, name="rehearse-begin"),
    path("shots/<int:pk>/rehearse/", views.begin_shot, name="rehearse-shot"),
    path("rehearse/<int:pk>/", views.rehearsal, name="rehearsal"),
    path("rehearse/<int:pk>/press/", views.shoot, name="rehearse-press"),
    path("rehearse/<int:pk>/leave/", views.leave, name="rehearse-leave"),
    path("rehearse/<int:pk>/picture.jpg", views.picture, name="rehearse-picture"),
    path("rehearse/<int:pk>/loupe.jpg", views.glass, name="rehearse-loupe"),
]
