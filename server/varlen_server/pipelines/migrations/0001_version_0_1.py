import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    """The tables of version 0.1, in one; a database that has them already goes on from here."""

    replaces = [("pipelines", "0001_initial"), ("pipelines", "0002_revision_names")]

    initial = True

    dependencies = [
    ]

    operations = [
        migrations.CreateModel(
            name='Document',
            fields=[
                ('digest', models.CharField(max_length=71, primary_key=True, serialize=False)),
                ('document', models.JSONField()),
            ],
        ),
        migrations.CreateModel(
            name='Pipeline',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=120)),
                ('created', models.DateTimeField(auto_now_add=True)),
                ('changed', models.DateTimeField(auto_now=True)),
            ],
            options={
                'ordering': ('id',),
            },
        ),
        migrations.CreateModel(
            name='Revision',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('number', models.PositiveIntegerField()),
                ('name', models.CharField(default='', max_length=120)),
                ('digest', models.CharField(max_length=71)),
                ('document', models.JSONField()),
                ('created', models.DateTimeField(auto_now_add=True)),
                ('pipeline', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='revisions', to='pipelines.pipeline')),
            ],
            options={
                'ordering': ('-number',),
                'constraints': [models.UniqueConstraint(fields=('pipeline', 'number'), name='one_revision_a_number')],
            },
        ),
    ]
