[playlist]
NumberOfEntries=9999
File2=b.mp3
file1=a.mp3
Title1=ÿ
Length1=-1
