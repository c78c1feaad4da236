import django.db.models.deletion
import varlen_server.fields
from django.db import migrations, models


class Migration(migrations.Migration):
    """The tables of version 0.1, in one; a database that has them already goes on from here."""

    replaces = [("datasets", "0001_initial"), ("datasets", "0002_label_maps_and_groups"), ("datasets", "0003_findings_and_edits"), ("datasets", "0004_intakes_and_measures"), ("datasets", "0005_quick_compression"), ("datasets", "0006_marks_and_source"), ("datasets", "0007_labels_as_text")]

    initial = True

    dependencies = [
    ]

    operations = [
        migrations.CreateModel(
            name='Dataset',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=200)),
                ('digest', models.CharField(max_length=71)),
                ('ready', models.BooleanField(default=True)),
                ('examined', models.PositiveIntegerField(default=0)),
                ('examining', models.BooleanField(default=False)),
                ('classes', models.JSONField(default=list)),
                ('keypoints', models.JSONField(default=list)),
                ('lines', models.JSONField(default=list)),
                ('partners', models.JSONField(default=list)),
                ('map_classes', models.JSONField(default=list)),
                ('format', models.CharField(default='coco', max_length=40)),
                ('findings', models.JSONField(default=list)),
                ('statistics', models.JSONField(default=dict)),
                ('marks', models.JSONField(default=dict)),
                ('source', models.TextField(default='')),
                ('extra', models.JSONField(default=dict)),
                ('created', models.DateTimeField(auto_now_add=True)),
            ],
            options={
                'ordering': ('id',),
            },
        ),
        migrations.CreateModel(
            name='Intake',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(default='', max_length=200)),
                ('path', models.TextField(default='')),
                ('folder', models.TextField(default='')),
                ('state', models.CharField(choices=[('gathering', 'Gathering'), ('recognised', 'Recognised'), ('waiting', 'Waiting'), ('reading', 'Reading'), ('done', 'Done'), ('failed', 'Failed'), ('cancelled', 'Cancelled')], default='gathering', max_length=12)),
                ('stop_asked', models.BooleanField(default=False)),
                ('recognised', models.JSONField(default=dict)),
                ('choices', models.JSONField(default=dict)),
                ('done', models.PositiveIntegerField(default=0)),
                ('total', models.PositiveIntegerField(default=0)),
                ('message', models.TextField(default='')),
                ('created', models.DateTimeField(auto_now_add=True)),
                ('dataset', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name='intakes', to='datasets.dataset')),
            ],
            options={
                'ordering': ('-id',),
            },
        ),
        migrations.CreateModel(
            name='Edit',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('batch', models.PositiveIntegerField()),
                ('why', models.CharField(default='', max_length=60)),
                ('kind', models.CharField(max_length=20)),
                ('image_key', models.CharField(max_length=1000)),
                ('object_id', models.CharField(default='', max_length=200)),
                ('value', models.CharField(default='', max_length=40)),
                ('created', models.DateTimeField(auto_now_add=True)),
                ('dataset', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='edits', to='datasets.dataset')),
            ],
            options={
                'ordering': ('batch', 'id'),
                'indexes': [models.Index(fields=['dataset', 'image_key'], name='datasets_ed_dataset_9ab537_idx')],
            },
        ),
        migrations.CreateModel(
            name='Image',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('key', models.CharField(max_length=1000)),
                ('split', models.CharField(max_length=40)),
                ('width', models.PositiveIntegerField()),
                ('height', models.PositiveIntegerField()),
                ('sha256', models.CharField(max_length=64)),
                ('objects_json', varlen_server.fields.JSONTextField(default=list)),
                ('content', models.CharField(default='', max_length=64)),
                ('facts', models.JSONField(default=dict)),
                ('measures', models.BinaryField(default=bytes)),
                ('object_count', models.PositiveIntegerField(default=0)),
                ('smallest_side', models.FloatField(default=0)),
                ('extra', models.JSONField(default=dict)),
                ('group', models.CharField(default='', max_length=300)),
                ('classes', models.JSONField(default=list)),
                ('label_map', models.CharField(default='', max_length=1000)),
                ('label_map_sha256', models.CharField(default='', max_length=64)),
                ('left_out', models.BooleanField(default=False)),
                ('unedited', models.JSONField(null=True)),
                ('dataset', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='images', to='datasets.dataset')),
            ],
            options={
                'ordering': ('key',),
                'indexes': [models.Index(fields=['dataset', 'split'], name='datasets_im_dataset_c41679_idx')],
                'constraints': [models.UniqueConstraint(fields=('dataset', 'key'), name='one_image_a_key')],
            },
        ),
    ]
