"""Addresses of the finishes and their exports."""

from django.urls import path

from vinter.web.finish import views

urlpatterns = [
    path("finish/", views.finishes, name="finishes"),
    path("stacks/<int:pk>/finish/new", views.new, name="finish-new"),
    path("finish/<int:pk>/", views.finish, name="finish"),
    path("finish/<int:pk>/draw/", views.draw, name="draw"),
    path("finish/<int:pk>/pick/", views.pick, name="finish-pick"),
    path("finish/<int:pk>/plain/", views.plain, name="finish-plain"),
    path("finish/<int:pk>/picture.jpg", views.picture, name="finish-picture"),
    path("finish/<int:pk>/look/", views.keep_look, name="finish-keep-look"),
    path("finish/<int:pk>/look/<str:key>.jpg", views.look_picture, name="finish-look"),
    path("finish/<int:pk>/name/", views.rename, name="finish-name"),
    path("finish/<int:pk>/copy/", views.copy, name="finish-copy"),
    path("finish/<int:pk>/beside/", views.beside, name="finish-beside"),
    path("finish/<int:pk>/names/", views.names, name="finish-names"),
    path("finish/<int:pk>/sizes/", views.sizes, name="finish-sizes"),
    path("finish/<int:pk>/sheet/", views.print_sheet, name="finish-sheet"),
    path("finish/<int:pk>/before-after.jpg", views.before_and_after, name="finish-before-after"),
    path("finish/<int:pk>/exports.zip", views.all_exports, name="finish-zip"),
    path("finish/<int:pk>/save/", views.save, name="finish-save"),
    path("finish/<int:pk>/recipe.json", views.recipe_file, name="recipe-file"),
    path("finish/<int:pk>/export/", views.export, name="export"),
    path("exports/<int:pk>/", views.download, name="download"),
    path("exports/<int:pk>/small/", views.download, {"which": "small"}, name="download-small"),
]
