from django.db import migrations, models

ROLES = {"look": "viewer", "work": "editor", "keep": "admin"}
SCOPES = {"work": "write"}


def rename(apps, words, back=False):
    pairs = {new: old for old, new in words.items()} if back else words
    for model, field in (("Member", "role"), ("Invitation", "role")) if words is ROLES else (("Token", "scope"),):
        for old, new in pairs.items():
            apps.get_model("people", model).objects.filter(**{field: old}).update(**{field: new})


def forward(apps, schema_editor):
    rename(apps, ROLES)
    rename(apps, SCOPES)


def backward(apps, schema_editor):
    rename(apps, ROLES, back=True)
    rename(apps, SCOPES, back=True)


CHOICES = [("viewer", "Viewer"), ("editor", "Editor"), ("admin", "Admin")]


class Migration(migrations.Migration):
    dependencies = [("people", "0001_accounts")]

    operations = [
        migrations.AlterField("invitation", "role", models.CharField(choices=CHOICES, default="viewer", max_length=8)),
        migrations.AlterField("member", "role", models.CharField(choices=CHOICES, default="viewer", max_length=8)),
        migrations.AlterField("token", "scope", models.CharField(choices=[("read", "Read"), ("scores", "Scores"), ("write", "Write")], max_length=8)),
        migrations.RunPython(forward, backward),
    ]
