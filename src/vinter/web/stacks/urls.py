"""Addresses of the stacks."""

from django.urls import path

from vinter.web.stacks import compare, joining, painting, views

urlpatterns = [
    path("stacks/", views.stacks, name="stacks"),
    path("stacks/join/", joining.new, name="stacks-join"),
    path("takes/<int:pk>/stack/", views.new, name="stack-new"),
    path("stacks/<int:pk>/lens/", views.keep_lens, name="stack-lens"),
    path("takes/<int:pk>/bracket/", views.bracket, name="bracket-new"),
    path("stacks/picture/", views.picture, name="picture-new"),
    path("frames/<int:pk>/finish/", views.single, name="frame-finish"),
    path("stacks/<int:pk>/", views.stack, name="stack"),
    path("stacks/<int:pk>/again/", views.again, name="stack-again"),
    path("compare/", compare.compare, name="compare"),
    path("stacks/<int:pk>/otherwise/", views.otherwise, name="stack-otherwise"),
    path("stacks/<int:pk>/paint/", painting.paint, name="paint"),
    path("stacks/<int:pk>/paint/try/", painting.attempt, name="paint-try"),
    path("stacks/<int:pk>/<str:which>/", views.file, name="stack-file"),
]
