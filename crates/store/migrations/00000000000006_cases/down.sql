drop table cases;
