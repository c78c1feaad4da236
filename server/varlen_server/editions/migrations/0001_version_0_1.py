import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    """The tables of version 0.1, in one; a database that has them already goes on from here."""

    replaces = [("editions", "0001_initial"), ("editions", "0002_looked_at_and_resumed")]

    initial = True

    dependencies = [
        ('datasets', '0001_version_0_1'),
        ('pipelines', '0001_version_0_1'),
    ]

    operations = [
        migrations.CreateModel(
            name='Edition',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=120)),
                ('dataset_digest', models.CharField(default='', max_length=71)),
                ('dataset_name', models.CharField(default='', max_length=200)),
                ('pipeline_digest', models.CharField(default='', max_length=71)),
                ('document', models.JSONField()),
                ('order', models.JSONField()),
                ('state', models.CharField(choices=[('waiting', 'Waiting'), ('writing', 'Writing'), ('done', 'Done'), ('stopped', 'Stopped'), ('failed', 'Failed'), ('cancelled', 'Cancelled')], default='waiting', max_length=12)),
                ('stop_asked', models.BooleanField(default=False)),
                ('leave_out', models.BooleanField(default=False)),
                ('begun_with', models.PositiveIntegerField(default=0)),
                ('done', models.PositiveIntegerField(default=0)),
                ('total', models.PositiveIntegerField(default=0)),
                ('message', models.TextField(default='')),
                ('output_digest', models.CharField(default='', max_length=71)),
                ('counts', models.JSONField(default=dict)),
                ('statistics', models.JSONField(default=dict)),
                ('left_out', models.JSONField(default=list)),
                ('check_state', models.JSONField(default=dict)),
                ('created', models.DateTimeField(auto_now_add=True)),
                ('started', models.DateTimeField(null=True)),
                ('finished', models.DateTimeField(null=True)),
                ('dataset', models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name='editions', to='datasets.dataset')),
                ('revision', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='editions', to='pipelines.revision')),
            ],
            options={
                'ordering': ('-id',),
            },
        ),
    ]
