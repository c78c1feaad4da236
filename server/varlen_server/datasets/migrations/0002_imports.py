import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    """An intake is called an import."""

    dependencies = [("datasets", "0001_version_0_1")]
    operations = [
        migrations.RenameModel("Intake", "DatasetImport"),
        migrations.AlterField(
            model_name="datasetimport",
            name="dataset",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="imports", to="datasets.dataset"),
        ),
    ]
